"""`python -m bench accept|relay|help`: how fast it is, beside a yardstick that is measured in turns in the same run.

`python -m bench large|queued|dead|flood|overload|outage|crowded|drain|fair|handing`: what it takes, and what it stands
(see `bench.size`, `bench.flood`, `bench.overload`, `bench.outage`, `bench.crowded`);
`python -m bench turns --before SRC --of relay`: beside another state of the code (see `bench.turns`);
`python -m bench signing`: signed mail beside unsigned mail;
`python -m bench shared|takeover`: a queue in PostgreSQL (see `bench.shared`);
`python -m bench rehearsal`: a million rehearsed messages, and 200 runs (see `bench.rehearsal`);
`python -m bench story|page|scan`: how fast things are found (see `bench.journal`).
"""

from __future__ import annotations

import argparse
import os
import socket
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from contextlib import ExitStack
from pathlib import Path

from bench.crowded import crowded, drain
from bench.flood import flood
from bench.journal import FINDS
from bench.outage import fair, handing, outage
from bench.overload import overload
from bench.rehearsal import rehearsal
from bench.shared import shared, takeover
from bench.signing import signing, signing_table
from bench.site import configure, free_port, program
from bench.size import SIZES
from bench.turns import Measured, processor_seconds, turns
from copper_kite.mail import make_signing_key
from copper_kite.net import make_authority

BY_FOLDER = {
    "flood": flood, "overload": overload, "fair": fair, "handing": handing, "takeover": takeover,
    "rehearsal": rehearsal, **SIZES, **FINDS
}  # fmt: skip
GOALS = {"accept": 0.45, "relay": 0.20}


def load(port: int, arguments: argparse.Namespace, authority: Path | None = None) -> float:
    """Seconds to submit the messages, under TLS with an `authority`."""
    numbers = (port, arguments.sessions, arguments.messages, arguments.octets)
    way = "pipelined" if arguments.pipelined else "lockstep"
    words = [sys.executable, "-m", "bench.load", *map(str, numbers), way, *([str(authority)] if authority else [])]
    done = subprocess.run(words, check=False, capture_output=True, text=True)
    if done.returncode:
        raise SystemExit(f"the load ended: {done.stderr}")
    return float(done.stdout)


def measure_bare(arguments: argparse.Namespace) -> float:
    """The yardstick in messages a second."""
    port = free_port()
    if not arguments.tls:
        with program("bench.bare", str(port)):
            return arguments.messages / load(port, arguments)
    with tempfile.TemporaryDirectory() as folder:
        files = make_authority(Path(folder), ["localhost"])
        with program("bench.bare", str(port), str(files.certificate), str(files.key)):
            return arguments.messages / load(port, arguments, files.authority)


def measure_kite(arguments: argparse.Namespace) -> float:
    """Copper Kite in messages a second."""
    return 1 / measure_whole(arguments, arguments.what)[0]


def measure_whole(arguments: argparse.Namespace, what: str, signed: str = "", store: str = "") -> Measured:
    """For a message: until the last 250 for accept, until the last is relayed for relay; signed with a kind of key."""
    with ExitStack() as stack:
        folder = Path(stack.enter_context(tempfile.TemporaryDirectory(dir=arguments.folder)))
        port, hop = free_port(), free_port()
        files = make_authority(folder, ["localhost"])
        tls = f'tls = "implicit"\ncertificate = "{files.certificate}"\nkey = "{files.key}"\n' if arguments.tls else ""
        config = configure(folder, port, hop, listener=tls, extra=signing_table(signed) if signed else "", store=store)
        if signed:
            (folder / f"{signed}.pem").touch(mode=0o600)
            (folder / f"{signed}.pem").write_bytes(make_signing_key(signed))
        sink = None
        if what == "relay":
            sink = stack.enter_context(
                program("bench.sink", str(hop), str(files.certificate), str(files.key), str(arguments.messages))
            )
        else:  # accept alone: the next hop takes the connection and never says a word
            silent = stack.enter_context(socket.create_server(("127.0.0.1", hop)))
            silent.listen()
        server = stack.enter_context(program("copper_kite", "--config", str(config), "serve", ready=b"is serving"))
        began, used = time.monotonic(), processor_seconds(server)
        seconds = load(port, arguments, files.authority if arguments.tls else None)
        if sink is not None:
            assert sink.stdout is not None
            started = began + (time.monotonic() - began - seconds)
            seconds = float(sink.stdout.readline()) - started
        return seconds / arguments.messages, (processor_seconds(server) - used) / arguments.messages


def measure_start(*words: str) -> float:
    """Seconds from start to exit, the best of several."""
    best = 60.0
    for _ in range(12):
        began = time.perf_counter()
        subprocess.run([sys.executable, *words], check=True, capture_output=True)
        best = min(best, time.perf_counter() - began)
    return best


def start_up() -> None:
    """`kite --help` beside `python -c "import click"`."""
    click, kite = measure_start("-c", "import click"), measure_start("-m", "copper_kite", "--help")
    print(
        f"import click {click * 1000:.0f} ms   kite --help {kite * 1000:.0f} ms   {kite / click:.2f}; goal 2.00 at most"
    )


def throughput(arguments: argparse.Namespace) -> None:
    """Measure in turns and print. A round's yardstick is what it took right before and right after, on average: the
    machine's speed drifts within seconds."""
    ratios = []
    after = 1 / measure_bare(arguments)
    for number in range(1, arguments.rounds + 1):
        before, kite, after = after, measure_kite(arguments), 1 / measure_bare(arguments)
        bare = 2 / (before + after)
        ratios.append(kite / bare)
        print(f"round {number}: bare {bare:8.0f} msgs/s   {arguments.what} {kite:8.0f} msgs/s   {kite / bare:.3f}")
    print(
        f"{arguments.what}: {statistics.median(ratios):.3f} of the bare server (median); goal {GOALS[arguments.what]}"
    )


def main() -> None:
    """Read the command line."""
    parser = argparse.ArgumentParser(prog="python -m bench")
    others = ("help", "outage", "crowded", "drain", "turns", "signing", "shared")
    parser.add_argument("what", choices=[*GOALS, *others, *BY_FOLDER])
    parser.add_argument("--messages", type=int, default=20000)
    parser.add_argument("--sessions", type=int, default=50)
    parser.add_argument("--octets", type=int, default=4096)
    parser.add_argument("--pipelined", action="store_true", help="commands of a message as one group")
    parser.add_argument("--tls", action="store_true", help="programs' sessions under TLS, those of the yardstick too")
    parser.add_argument("--rounds", type=int, default=3)
    parser.add_argument("--before", type=Path, help="of turns: the tree to compare with, or its src")
    parser.add_argument("--of", choices=GOALS, default="relay", help="of turns: what to measure")
    parser.add_argument("--folder", default=os.environ.get("TMPDIR", "/tmp"), help="on the disk to be measured")
    arguments = parser.parse_args()
    given: dict[str, Callable[[], object]] = {
        "help": start_up,
        "outage": lambda: outage(arguments, lambda port: load(port, arguments)),
        "crowded": lambda: crowded(arguments, lambda port: load(port, arguments)),
        "drain": lambda: drain(arguments, lambda: 1 / measure_whole(arguments, "relay")[0]),
        "signing": lambda: signing(arguments, lambda kind: 1 / measure_whole(arguments, "relay", kind)[0]),
        "shared": lambda: shared(arguments, lambda what, url: 1 / measure_whole(arguments, what, store=url)[0]),
        "turns": lambda: turns(arguments, lambda given: measure_whole(given, given.of)),
    }
    if arguments.what in BY_FOLDER:
        BY_FOLDER[arguments.what](Path(arguments.folder))
    else:
        given.get(arguments.what, lambda: throughput(arguments))()


if __name__ == "__main__":
    main()
