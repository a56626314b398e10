"""Many sessions with peers that misbehave by chance: `python -m tests.hostile --sequences 10000000 --seed 1`.

`--clients` is the same from the other side: clients of our listener.
"""

from __future__ import annotations

import argparse
import time
from concurrent.futures import ProcessPoolExecutor
from functools import partial

from tests.hostile.clients import hand_in
from tests.hostile.delivery import deliver
from tests.hostile.virtual import RandomChoices

PORTION = 2000  # runs given to a process at a time


def portion(first: int, count: int, *, clients: bool = False) -> tuple[int, list[int], list[tuple[int, str]]]:
    """Play `count` runs from seed `first` on: how many sessions there were, their paths, and what went wrong."""
    sessions, paths, violations = 0, [], []
    for seed in range(first, first + count):
        choices = RandomChoices(seed)
        try:
            if clients:
                sessions += len(hand_in(choices)[1])
            else:
                scene = deliver(choices)
                sessions += sum(host.opened for host in scene.hosts)
                scene.check()
        except Exception as error:
            violations.append((seed, f"{type(error).__name__}: {error}"))
        paths.append(choices.trail)
    return sessions, paths, violations


def main() -> int:
    """Play until enough sequences were played; exit 1 on a violation."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--sequences", type=int, default=100_000, help="peer sessions to play, at least")
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--jobs", type=int, default=2)
    parser.add_argument("--clients", action="store_true", help="clients of the listener, not next hops")
    given = parser.parse_args()
    began, sessions, runs, violations = time.monotonic(), 0, 0, []
    paths: set[int] = set()
    seed = given.seed
    with ProcessPoolExecutor(given.jobs) as pool:
        while sessions < given.sequences and len(violations) < 20:
            firsts = [seed + PORTION * number for number in range(2 * given.jobs)]
            seed = firsts[-1] + PORTION
            for found, trails, wrong in pool.map(partial(portion, count=PORTION, clients=given.clients), firsts):
                sessions, runs = sessions + found, runs + len(trails)
                paths.update(trails)
                violations += wrong
            print(
                f"{sessions} sequences in {runs} runs, {len(paths)} distinct paths, {len(violations)} violations",
                flush=True,
            )
    seconds = time.monotonic() - began
    for number, words in violations[:20]:
        print(f"seed {number}: {words}")
    print(
        f"seed {given.seed}: {sessions} sequences, {len(paths)} distinct paths, {seconds:.0f} s, {sessions / seconds:.0f} a second"
    )
    return 1 if violations else 0


if __name__ == "__main__":
    raise SystemExit(main())
