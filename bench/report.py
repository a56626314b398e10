"""`python -m bench report`: what a report on a month with a million messages takes, beside counting them anew."""

from __future__ import annotations

import random
import resource
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from copper_kite.store import step_of_delay
from copper_kite.store.sqlite.kinds.hourly import add_counts
from copper_kite.store.sqlite.schema import connect_writer

__all__ = ["report"]

HOURS = 60 * 24  # two periods
AN_HOUR = 1400  # recipients: a million in 30 days
SECONDS, OCTETS = 2.0, 300 * 1024 * 1024


def report(folder: Path) -> None:
    """Fill the counts of two months, and run the command."""
    with tempfile.TemporaryDirectory(dir=folder) as name:
        here = Path(name)
        config = here / "kite.toml"
        config.write_text('[server]\nname = "quay1.example"\ndata = "queue"\n')
        rows = _fill(here / "queue")
        for words in (["--month"], ["--month", "--json"], ["--month", "--html", str(here / "r.html")]):
            seconds = statistics.median(_run(config, words) for _ in range(3))
            print(
                f"kite report {' '.join(words[:2])}, {rows:,} counts in two months: {seconds:.2f} s; goal {SECONDS:g}"
            )
        most = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss * 1024
        print(f"at most {most / 1024 / 1024:.0f} MiB; goal {OCTETS // 1024 // 1024}")


def _fill(folder: Path) -> int:
    dice, connection, rows = random.Random(7), connect_writer(folder), 0
    last = int(time.time()) // 3600
    connection.execute("BEGIN")
    for hour in range(last - HOURS, last):
        counts: dict[tuple[int, str, str, str, str, str, str, int], list[int]] = {}
        for number in range(AN_HOUR):
            who, domain = f"program{dice.randrange(20)}", f"site{int(dice.expovariate(0.05))}.example"
            delay = int(step_of_delay(dice.expovariate(0.5)))
            for key in (
                (hour, "accepted", "", "", who, domain, "", -1),
                (hour, "relayed", "beacon", "out.beaconpost.example:587", who, domain, "", -1),
                (hour, "delay", "beacon", "out.beaconpost.example:587", "", "", "", delay),
            ):
                known = counts.setdefault(key, [0, 0])
                known[0] += 1
                known[1] += 4000 + number
        add_counts(connection, counts)
        rows += len(counts)
    connection.execute("COMMIT")
    (rows,) = connection.execute("SELECT count(*) FROM hourly").fetchone()
    connection.close()
    return int(rows)


def _run(config: Path, words: list[str]) -> float:
    began = time.perf_counter()
    command = [sys.executable, "-m", "copper_kite", "--config", str(config), "report", *words]
    subprocess.run(command, check=True, capture_output=True)
    return time.perf_counter() - began
