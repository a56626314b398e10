"""The journal, lanes, the clock, finished orders, and the removal of old records."""

from __future__ import annotations

from collections.abc import Sequence

from copper_kite.store.postgres.kinds.tables import Tables, dumps
from copper_kite.store.shared.counting import HOUR, MINUTE, count_refusals
from copper_kite.store.shared.encoding import Row
from copper_kite.store.shared.rows import LANE_COLUMNS

__all__ = [
    "finish_requests",
    "forget_old",
    "nothing",
    "retry_now",
    "shift_clock",
    "start_lanes",
    "stop_lanes",
    "write_entries",
]


def nothing(tables: Tables, rows: Sequence[Row]) -> None:
    """For what concerns files: here are none."""


def write_entries(tables: Tables, rows: Sequence[Row]) -> None:
    """Add entries to the journal."""
    entries = [(at, event, message, dumps(facts), tables.slot) for at, event, message, facts in rows]
    tables.add("journal", "at, event, message, facts, server", entries)
    counts, instants = count_refusals(rows)
    tables.count(counts, {("", "refused"): instants})


def stop_lanes(tables: Tables, rows: Sequence[Row]) -> None:
    """Note what keeps lanes of this server from moving."""
    last = {row[:2]: row for row in rows}
    tables.many(_STOP_LANE, [(*row, tables.slot) for row in last.values()])


def start_lanes(tables: Tables, rows: Sequence[Row]) -> None:
    """Forget what kept lanes from moving."""
    tables.many(
        "DELETE FROM lane WHERE server = %s AND connector = %s AND domain = %s", [(tables.slot, *row) for row in rows]
    )


def retry_now(tables: Tables, rows: Sequence[Row]) -> None:
    """Make what is delayed due."""
    tables.many(
        f"UPDATE recipient SET next_try = %s WHERE state = 'delayed' AND next_try > %s AND connector = %s AND {_OURS}",
        [(at, at, connector, tables.slot) for connector, at in rows],
    )


def shift_clock(tables: Tables, rows: Sequence[Row]) -> None:
    """Move what this server computed from the wrong time."""
    for by, before in rows:
        for statement, count in _SHIFT:
            tables.do(statement, *[by] * count, before, tables.slot)


def finish_requests(tables: Tables, rows: Sequence[Row]) -> None:
    """Forget what was wanted."""
    tables.do("DELETE FROM wanted WHERE number = ANY(%s)", [number for (number,) in rows])


def forget_old(tables: Tables, rows: Sequence[Row]) -> None:
    """Forget what is old; another server may be at the same."""
    for at, hour, counts in rows:
        tables.do(_FORGET_JOURNAL, at, at)
        tables.do("DELETE FROM taken WHERE hour < %s", hour)
        tables.do("DELETE FROM tally WHERE minute < %s", hour * (HOUR // MINUTE))
        tables.do("DELETE FROM hourly WHERE hour < %s", counts)


_OURS = "message IN (SELECT id FROM message WHERE owner = %s)"
_STOP_LANE = (
    f"INSERT INTO lane VALUES ({', '.join(['%s'] * (len(LANE_COLUMNS) + 1))})"
    " ON CONFLICT (server, connector, domain) DO UPDATE SET "
    + ", ".join(f"{name} = excluded.{name}" for name in LANE_COLUMNS[2:])
)
# What was noted later than the clock showed was computed by another clock: it stays as it is.
_SHIFT = (
    (f"UPDATE recipient SET next_try = next_try + %s WHERE state = 'delayed' AND changed <= %s AND {_OURS}", 1),
    (
        "UPDATE message SET expires = expires + %s WHERE arrived <= %s AND owner = %s"
        " AND id IN (SELECT message FROM content WHERE portion = 0)",
        1,
    ),
    ("UPDATE lane SET since = since + %s, until = until + %s, at = at + %s WHERE at <= %s AND server = %s", 3),
)
# The oldest rows alone are looked at: a few at a time is enough.
_FORGET_JOURNAL = (
    "DELETE FROM journal WHERE number IN (SELECT number FROM journal ORDER BY number LIMIT 2000)"
    " AND message IS NULL AND at < %s"
    # what was so then is told of messages that are younger
    " AND (event != 'routes' OR at < (SELECT max(at) FROM journal WHERE event = 'routes' AND at < %s))"
)
