"""Figures of runs: what each came to as numbers, and over all runs their medians and 5-95 % bands."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, NamedTuple

from copper_kite.rehearsal.measures import SAMPLES, Measures
from copper_kite.words import Cause, Priority

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

__all__ = ["DELAYS", "Band", "Bands", "RunFigures", "Series", "Spent", "bands_of", "figures_of"]

DELAYS = {"p50": 0.5, "p95": 0.95, "p99": 0.99, "max": 1.0}


class Band(NamedTuple):
    """A figure over all runs."""

    median: float
    low: float  # 5 % of the runs are below
    high: float  # 5 % of the runs are above


class Spent(NamedTuple):
    """A span in which a connector's allowance was used up (seconds since 1970)."""

    connector: str
    since: float
    until: float


@dataclass(frozen=True, slots=True)
class RunFigures:
    """One run in numbers. `empty_after` is None where the queue was not as short as usual again, a delay where nothing
    was relayed; `offered` are recipients by connector."""

    figures: Mapping[str, float | None]
    by_priority: Mapping[str, Mapping[str, float]]
    by_sender: Mapping[str, Mapping[str, float]]
    noticed: Mapping[str, int]
    offered: Mapping[str, int]
    spent: Sequence[Spent]
    series: Mapping[str, NDArray[np.float64]]
    step: float


@dataclass(frozen=True, slots=True)
class Series:
    """A curve: its median and band at each sample."""

    median: Sequence[float]
    low: Sequence[float]
    high: Sequence[float]


@dataclass(frozen=True, slots=True)
class Bands:
    """All runs together. `never_empty` counts the runs in which the queue was not as short as usual again."""

    runs: int
    since: float
    step: float
    samples: int  # of the period in which messages arrive
    figures: Mapping[str, Band | None]
    by_priority: Mapping[str, Mapping[str, Band]]
    by_sender: Mapping[str, Mapping[str, Band]]
    noticed: Mapping[str, Band]
    offered: Mapping[str, float]
    spent: Sequence[Spent]
    series: Mapping[str, Series]
    never_empty: int = 0

    @property
    def worth_showing(self) -> int:
        """How many samples: up to the last at which much waits, and the period itself."""
        waiting = self.series["waiting"].high
        some = 0.002 * max(waiting, default=0.0)
        last = max((place for place, value in enumerate(waiting) if value > some), default=0)
        return min(max(last + 2, self.samples), len(waiting))


def figures_of(measures: Measures, until: float) -> RunFigures:
    """The numbers of a run whose messages arrived up to `until`."""
    import numpy as np

    origin = measures.trouble[1] if measures.trouble is not None else measures.largest_at
    empty = None if measures.empty_at is None else max(measures.empty_at - origin, 0.0)
    by_priority: dict[Priority, list[NDArray[np.float64]]] = {}
    by_sender: dict[str, list[NDArray[np.float64]]] = {}
    for (who, priority), delays in measures.delays.items():
        values = np.frombuffer(delays)
        by_priority.setdefault(Priority.of(priority), []).append(values)
        by_sender.setdefault(who, []).append(values)
    everything = [values for group in by_sender.values() for values in group]
    delays_of_all = _quantiles(everything)
    figures: dict[str, float | None] = {
        "submitted": measures.submitted,
        "relayed": measures.relayed,
        "attempts": measures.attempts,
        "largest_queue": measures.largest,
        "largest_at": measures.largest_at,
        "oldest": max(measures.ages, default=0.0),
        "empty_after": empty,
        "empty_at": measures.empty_at,
        "noticed_after": measures.noticed_after,
        "expired": measures.expired,
        "refused": measures.refused,
        "notices": measures.notices,
        "delay_notices": measures.delay_notices,
        "failure_notices": measures.failure_notices,
        **{f"delay_{name}": delays_of_all.get(name) for name in DELAYS},
    }
    spent = [
        Spent(stop.connector, stop.since, stop.until if stop.until is not None else measures.last_end)
        for stop in measures.spent(Cause.ALLOWANCE_USED)
    ]
    figures["allowance_spent"] = sum(max(min(item.until, until) - item.since, 0.0) for item in spent)
    return RunFigures(
        figures,
        {priority.name.lower(): _quantiles(values) for priority, values in sorted(by_priority.items(), reverse=True)},
        {who: {**_quantiles(values), "relayed": sum(map(len, values))} for who, values in by_sender.items()},
        dict(measures.noticed),
        dict(measures.offered),
        spent,
        {
            "waiting": np.array(measures.peaks, dtype=float),
            "oldest": np.array(measures.ages, dtype=float),
            "relayed": np.array(measures.rates, dtype=float) / measures.step,
        },
        measures.step,
    )


def _quantiles(values: Sequence[NDArray[np.float64]]) -> dict[str, float]:
    import numpy as np

    if not values:
        return {}
    return dict(zip(DELAYS, map(float, np.quantile(np.concatenate(values), list(DELAYS.values()))), strict=True))


def bands_of(runs: Sequence[RunFigures], since: float) -> Bands:
    """The bands of some runs, at least one."""
    names = list(runs[0].figures)
    figures = {name: _band([run.figures[name] for run in runs]) for name in names}
    connectors = {name for run in runs for name in run.offered}
    return Bands(
        runs=len(runs),
        since=since,
        step=runs[0].step,
        samples=SAMPLES,
        figures=figures,
        by_priority=_nested([run.by_priority for run in runs]),
        by_sender=_nested([run.by_sender for run in runs]),
        noticed={
            who: band
            for who in sorted({name for run in runs for name in run.noticed})
            if (band := _band([run.noticed.get(who, 0) for run in runs])) is not None
        },
        offered={name: sum(run.offered.get(name, 0) for run in runs) / len(runs) for name in sorted(connectors)},
        spent=runs[0].spent,
        series={name: _series([run.series[name] for run in runs]) for name in runs[0].series},
        never_empty=sum(run.figures["empty_after"] is None for run in runs),
    )


def _band(values: Sequence[float | None]) -> Band | None:
    import numpy as np

    known = [value for value in values if value is not None]
    if not known:
        return None
    median, low, high = np.quantile(known, (0.5, 0.05, 0.95))
    return Band(float(median), float(low), float(high))


def _nested(runs: Sequence[Mapping[str, Mapping[str, float]]]) -> dict[str, dict[str, Band]]:
    groups = list(dict.fromkeys(name for run in runs for name in run))
    return {
        group: {
            name: band
            for name in next(run[group] for run in runs if group in run)
            if (band := _band([run[group][name] for run in runs if group in run])) is not None
        }
        for group in groups
    }


def _series(curves: Sequence[NDArray[np.float64]]) -> Series:
    import numpy as np

    table = np.zeros((len(curves), max(map(len, curves))))
    for row, curve in zip(table, curves, strict=True):
        row[: len(curve)] = curve
    median, low, high = np.quantile(table, (0.5, 0.05, 0.95), axis=0)
    return Series(median.tolist(), low.tolist(), high.tolist())
