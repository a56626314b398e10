"""The journal, the clock, finished orders, and the removal of old records."""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence

from copper_kite.store.shared.counting import count_refusals
from copper_kite.store.shared.encoding import Row
from copper_kite.store.sqlite.kinds.hourly import add_counts
from copper_kite.store.sqlite.kinds.kind import dumps, insert
from copper_kite.store.sqlite.kinds.tally import count_outcomes
from copper_kite.store.sqlite.segments import Extent

__all__ = [
    "finish_requests",
    "forget_old",
    "hand_over",
    "shift_clock",
    "sweep",
    "write_entries",
]


def write_entries(connection: sqlite3.Connection, rows: Sequence[Row], at: Extent) -> None:
    """Add entries to the journal."""
    connection.executemany(_INSERT_JOURNAL, [(None, *row[:3], dumps(row[3])) for row in rows])
    counts, instants = count_refusals(rows)
    count_outcomes(connection, {("", "refused"): instants})
    add_counts(connection, counts)


def shift_clock(connection: sqlite3.Connection, rows: Sequence[Row], at: Extent) -> None:
    """Move what was computed from the wrong time."""
    for statement in _SHIFT:
        connection.executemany(statement, rows)


def finish_requests(connection: sqlite3.Connection, rows: Sequence[Row], at: Extent) -> None:
    """Forget what was wanted."""
    connection.executemany("DELETE FROM wanted WHERE number = ?", rows)


def forget_old(connection: sqlite3.Connection, rows: Sequence[Row], at: Extent) -> None:
    """Forget what is old."""
    connection.executemany(_FORGET_JOURNAL, [(before,) for before, *_ in rows])
    connection.executemany("DELETE FROM taken WHERE hour < ?", [(hour,) for _, hour, _ in rows])
    connection.executemany("DELETE FROM tally WHERE minute < ?", [(hour * MINUTES_AN_HOUR,) for _, hour, _ in rows])
    connection.executemany("DELETE FROM hourly WHERE hour < ?", [(hour,) for *_, hour in rows])


def hand_over(connection: sqlite3.Connection, rows: Sequence[Row], at: Extent) -> None:
    """There is no other server that it could be handed to."""


def sweep(connection: sqlite3.Connection, rows: Sequence[Row], at: Extent) -> None:
    """The files are swept after the commit, by the process that writes."""


MINUTES_AN_HOUR = 60
_INSERT_JOURNAL = insert("journal", 5)
# What was noted later than the clock showed was computed by another clock: it stays as it is.
_SHIFT = (
    "UPDATE recipient SET next_try = next_try + ?1 WHERE state = 'delayed' AND changed <= ?2",
    "UPDATE message SET expires = expires + ?1 WHERE arrived <= ?2 AND id IN"
    " (SELECT message FROM recipient WHERE state IN ('queued', 'delayed', 'parked', 'failed'))",
    "UPDATE compact SET expires = expires + ?1 WHERE arrived <= ?2",
    "UPDATE lane SET since = since + ?1, until = until + ?1, at = at + ?1 WHERE at <= ?2",
)
# The oldest rows alone are looked at: a few at a time is enough.
_FORGET_JOURNAL = (
    "DELETE FROM journal WHERE number IN (SELECT number FROM journal ORDER BY number LIMIT 2000)"
    " AND message IS NULL AND at < ?1"
    # what was so then is told of messages that are younger
    " AND (event != 'routes' OR at < (SELECT max(at) FROM journal WHERE event = 'routes' AND at < ?1))"
)
