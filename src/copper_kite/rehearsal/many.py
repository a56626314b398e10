"""Many runs, on all processors, until their band is known well enough."""

from __future__ import annotations

import math
import multiprocessing
import os
import signal
from collections.abc import Callable, Sequence
from concurrent.futures import ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from contextlib import suppress

from copper_kite.errors import RehearsalFailed
from copper_kite.rehearsal.figures import Bands, RunFigures, bands_of, figures_of
from copper_kite.rehearsal.world import Rehearsal

__all__ = ["MAIN_FIGURES", "run_many"]

FEWEST = 8  # runs, before a band is judged
MAIN_FIGURES = ("largest_queue", "empty_after", "delay_p95")

_rehearsal: list[Rehearsal] = []  # of a process of the pool, which is forked with it


def _begin(rehearsal: Rehearsal) -> None:
    _rehearsal[:] = [rehearsal]


def _begin_process(rehearsal: Rehearsal) -> None:
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # Ctrl-C ends the command, which ends its processes
    _begin(rehearsal)


def _one(seed: int) -> RunFigures:
    rehearsal = _rehearsal[0]
    return figures_of(rehearsal.run(seed), rehearsal.until)


def run_many(
    rehearsal: Rehearsal,
    most: int,
    seed: int = 1,
    width: float = 0.0,
    progress: Callable[[int], object] = lambda done: None,
    processors: int | None = None,
) -> Bands:
    """Run with the seeds from `seed` on, `most` times; fewer where the median of each main figure is known to `width`,
    a share of it (0: never). Raises RehearsalFailed.

    The result does not depend on the number of processors.
    """
    processors = min(processors or _processors(), most)
    runs: list[RunFigures] = []
    if processors <= 1:
        _begin(rehearsal)
        for number in range(most):
            runs.append(_one(seed + number))
            progress(len(runs))
            if _known_well(runs, width):
                break
        return bands_of(runs, rehearsal.since)
    context = multiprocessing.get_context("fork")
    with ProcessPoolExecutor(processors, context, _begin_process, (rehearsal,)) as pool:
        waiting = [pool.submit(_one, seed + number) for number in range(most)]
        try:
            for future in waiting:
                runs.append(future.result())
                progress(len(runs))
                if _known_well(runs, width):
                    break
        except BrokenProcessPool as error:
            raise RehearsalFailed("a process of the rehearsal was killed; was there too little memory?") from error
        finally:
            pool.shutdown(wait=False, cancel_futures=True)
    return bands_of(runs, rehearsal.since)


def _processors() -> int:
    with suppress(AttributeError):
        return len(os.sched_getaffinity(0))
    return os.cpu_count() or 1


def _known_well(runs: Sequence[RunFigures], width: float) -> bool:
    """Whether the median of each main figure is known to a share of it: half of its 95 % interval, where the error of
    a median is 1.2533 times that of a mean."""
    if not width or len(runs) < FEWEST:
        return False
    for name in MAIN_FIGURES:
        values = [value for run in runs if (value := run.figures[name]) is not None]
        if len(values) < FEWEST:
            continue
        mean = sum(values) / len(values)
        deviation = math.sqrt(sum((value - mean) ** 2 for value in values) / (len(values) - 1))
        if 1.96 * 1.2533 * deviation / math.sqrt(len(values)) > width * abs(mean):
            return False
    return True
