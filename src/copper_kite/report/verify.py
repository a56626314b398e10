"""Whether the hourly counts are what the journal says."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable
from typing import NamedTuple

from copper_kite.store import HourlyCount, Reader

__all__ = ["Difference", "compare_counts"]


class Difference(NamedTuple):
    """An hour and outcome of which the counts and the journal tell something else, in recipients."""

    hour: int
    outcome: str
    counted: int
    journal: int


def compare_counts(reader: Reader, since: int, until: int) -> tuple[int, list[Difference]]:
    """The number of recipients and refusals that the journal has of these hours, and the differences of the counts.

    Only what is summed over an hour can be compared: of very many different senders or domains, the rare ones count
    as "other".
    """
    counted, journal = _summed(reader.hourly(since, until)), _summed(reader.recounted(since, until))
    differences = [
        Difference(*key, counted[key], journal[key])
        for key in sorted(counted.keys() | journal.keys())
        if counted[key] != journal[key]
    ]
    return sum(count for (_, outcome), count in journal.items() if outcome != "delay"), differences


def _summed(counts: Iterable[HourlyCount]) -> Counter[tuple[int, str]]:
    sums: Counter[tuple[int, str]] = Counter()
    for count in counts:
        sums[count.hour, count.outcome] += count.recipients
    return sums
