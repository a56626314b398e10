"""`python -m bench turns --before SRC --of accept|relay`: this code beside that of another folder, one after the other.

Wall time tells what a user sees; processor time of the server and the process that writes is what the machine's other
work disturbs least.
"""

from __future__ import annotations

import argparse
import os
import statistics
import subprocess
from collections.abc import Callable
from pathlib import Path

from bench import site

__all__ = ["Measured", "processor_seconds", "turns"]

TICKS = os.sysconf("SC_CLK_TCK")

Measured = tuple[float, float]  # seconds on the wall and of processors, each for a message


def processor_seconds(process: subprocess.Popen[bytes]) -> float:
    """What a process and its children have used up to now."""
    children = Path(f"/proc/{process.pid}/task/{process.pid}/children").read_text().split()
    used = 0
    for pid in (process.pid, *map(int, children)):
        fields = Path(f"/proc/{pid}/stat").read_text().rpartition(") ")[2].split()
        used += int(fields[11]) + int(fields[12])
    return used / TICKS


def _source(folder: Path) -> str:
    """The folder with the package, of a whole tree or itself; or else what is installed would be measured instead."""
    for source in (folder / "src", folder):
        if (source / "copper_kite" / "__init__.py").is_file():
            return str(source)
    raise SystemExit(f"{folder}: no copper_kite in it, nor in its src")


def turns(arguments: argparse.Namespace, measure: Callable[[argparse.Namespace], Measured]) -> None:
    """Measure before and after in turns and print both, with the median ratios (after / before, below 1 is faster)."""
    here = _source(Path(__file__).parents[1])
    sides: tuple[list[Measured], list[Measured]] = [], []
    for number in range(1, arguments.rounds + 1):
        for side, source in ((0, _source(arguments.before)), (1, here))[:: 1 if number % 2 else -1]:
            site.served_from = source
            sides[side].append(measure(arguments))
        before, after = sides[0][-1], sides[1][-1]
        print(
            f"round {number}: before {before[0] * 1e6:5.0f} us ({before[1] * 1e6:4.0f} of processors)"
            f"   after {after[0] * 1e6:5.0f} us ({after[1] * 1e6:4.0f})   {after[0] / before[0]:.3f}",
            flush=True,
        )
    for name, of in (("the median", statistics.median), ("the best", min)):
        wall, processors = (of([x[n] for x in sides[1]]) / of([x[n] for x in sides[0]]) for n in (0, 1))  # type: ignore[operator]
        print(f"{arguments.of}: {name} message takes {wall:.3f} of the time before, {processors:.3f} of processors")
