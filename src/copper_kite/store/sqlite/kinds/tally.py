"""Counts by the minute of accepted messages and recipients' results: one row for each minute, connector and outcome in
a commit."""

from __future__ import annotations

import sqlite3
from collections.abc import Mapping, Sequence

from copper_kite.store.shared.counting import by_minute

__all__ = ["count_outcomes"]


def count_outcomes(connection: sqlite3.Connection, outcomes: Mapping[tuple[str, str], Sequence[float]]) -> None:
    """Add to the counts: for a connector and a word of `Tally`, the instants (seconds since 1970), one a recipient."""
    rows: list[tuple[int, str, str, int]] = []
    for (connector, outcome), instants in outcomes.items():
        rows += [(minute, connector, outcome, count) for minute, count in by_minute(instants)]
    if rows:
        connection.executemany(_ADD, rows)


_ADD = (
    "INSERT INTO tally VALUES (?, ?, ?, ?)"
    " ON CONFLICT (minute, connector, outcome) DO UPDATE SET count = count + excluded.count"
)
