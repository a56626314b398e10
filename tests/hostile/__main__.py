"""Many sessions with peers that misbehave by chance: `python -m tests.hostile --sequences 10000000 --seed 1`.

`--clients` is the same from the other side: clients of our listener.
"""

from __future__ import annotations

import argparse
import gc
import itertools
import time
from concurrent.futures import FIRST_COMPLETED, ProcessPoolExecutor, wait
from functools import partial

from tests.hostile.clients import hand_in
from tests.hostile.delivery import deliver
from tests.hostile.virtual import RandomChoices

PORTION = 2000  # runs given to a process at a time


def portion(first: int, count: int, *, clients: bool = False) -> tuple[int, list[int], list[tuple[int, str]]]:
    """Play `count` runs from seed `first` on: how many sessions there were, their paths, and what went wrong."""
    sessions, paths, violations = 0, [], []
    gc.freeze()
    gc.set_threshold(100_000, 10, 10)
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
    firsts = itertools.count(given.seed, PORTION)
    with ProcessPoolExecutor(given.jobs) as pool:
        give = partial(pool.submit, portion, count=PORTION, clients=given.clients)
        under_way = {give(first) for first in itertools.islice(firsts, given.jobs + 1)}
        while under_way:
            done, under_way = wait(under_way, return_when=FIRST_COMPLETED)
            for result, trails, wrong in (future.result() for future in done):
                sessions, runs = sessions + result, runs + len(trails)
                paths.update(trails)
                violations += wrong
                if sessions < given.sequences and len(violations) < 20:
                    under_way.add(give(next(firsts)))
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
