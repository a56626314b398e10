"""Counts by the minute of accepted messages and recipients' results: one row for each minute, connector and outcome in
a commit."""

from __future__ import annotations

import sqlite3
from collections import Counter
from collections.abc import Mapping, Sequence

__all__ = ["MINUTE", "count_outcomes"]

MINUTE = 60  # seconds


def count_outcomes(connection: sqlite3.Connection, outcomes: Mapping[tuple[str, str], Sequence[float]]) -> None:
    """Add to the counts: for a connector and a word of `Tally`, the instants (seconds since 1970), one a recipient."""
    rows: list[tuple[int, str, str, int]] = []
    for (connector, outcome), instants in outcomes.items():
        rows += [(minute, connector, outcome, count) for minute, count in _by_minute(instants)]
    if rows:
        connection.executemany(_ADD, rows)


def _by_minute(instants: Sequence[float]) -> list[tuple[int, int]]:
    if not instants:
        return []
    first, last = int(min(instants)) // MINUTE, int(max(instants)) // MINUTE
    if first == last:  # as nearly always within a commit
        return [(first, len(instants))]
    return list(Counter(int(at) // MINUTE for at in instants).items())


_ADD = (
    "INSERT INTO tally VALUES (?, ?, ?, ?)"
    " ON CONFLICT (minute, connector, outcome) DO UPDATE SET count = count + excluded.count"
)
