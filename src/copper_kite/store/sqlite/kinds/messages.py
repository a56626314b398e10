"""Messages and their content.

A message that comes whole, with one recipient, is one row of `compact`; any other has rows in `message`, `recipient`
and `content`. `growing` names those whose content has begun to come, and who are not messages yet.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence

from copper_kite.store.model import Message
from copper_kite.store.shared.counting import count_additions, sum_taken
from copper_kite.store.shared.encoding import PORTION_BITS, Row, place, places
from copper_kite.store.sqlite.kinds.hourly import add_counts
from copper_kite.store.sqlite.kinds.kind import insert
from copper_kite.store.sqlite.kinds.tally import count_outcomes
from copper_kite.store.sqlite.segments import Extent

__all__ = [
    "add_content",
    "add_messages",
    "drop_content",
    "extend_lifetimes",
    "forget",
    "move_content",
    "moved_message",
]


def add_messages(connection: sqlite3.Connection, rows: Sequence[Row], at: Extent) -> None:
    """Add messages, compact where that can be."""
    many, (segment, base) = connection.executemany, at
    compact = [
        # +: the binding looks for a way to adapt a bool, each time anew
        (*row[:5], +row[5], +row[6], *row[7:15], *of[0][1:3], segment, base + start, row[15], of[0][3], *row[16:])
        for row, of, start, _ in rows
        if len(of) == 1 and start is not None
    ]
    many(_INSERT_COMPACT, compact)
    if len(compact) < len(rows):
        others = [item for item in rows if len(item[1]) != 1 or item[2] is None]
        many(_INSERT_MESSAGE, [row for row, _, _, _ in others])
        content = [
            (place(row[0], 0), segment, base + start, row[4]) for row, _, start, _ in others if start is not None
        ]
        many(_INSERT_CONTENT, content)
        many(_GROWN, [(row[0],) for row, _, start, _ in others if start is None])
        many(
            "INSERT INTO recipient VALUES (?1, ?2, ?3, 'queued', 0, ?6, ?5, '', ?6, ?4, '', '')",
            [(row[0], *recipient, row[1]) for row, recipients, _, _ in others for recipient in recipients],
        )
    many(_ADD_TAKEN, [(*key, count) for key, count in sum_taken([taken for _, _, _, taken in rows]).items()])
    counts, instants = count_additions(rows)
    count_outcomes(connection, {("", "accepted"): instants})
    add_counts(connection, counts)


def add_content(connection: sqlite3.Connection, rows: Sequence[Row], at: Extent) -> None:
    """Note where portions stand, and whose message is not there yet."""
    segment, base = at
    connection.executemany(_INSERT_CONTENT, [(where, segment, base + start, size) for where, start, size in rows])
    connection.executemany(_GROWS, [(id,) for id in {where >> PORTION_BITS for where, _, _ in rows}])


def moved_message(row: Row) -> int:
    """Whose portion it is."""
    return int(row[1]) >> PORTION_BITS


def move_content(connection: sqlite3.Connection, rows: Sequence[Row], at: Extent) -> None:
    """Note where portions stand now."""
    segment, base = at
    moved = [(segment, base + start, where) for start, where, _ in rows]
    connection.executemany("UPDATE content SET segment = ?, start = ? WHERE place = ?", moved)


def drop_content(connection: sqlite3.Connection, rows: Sequence[Row], at: Extent) -> None:
    """Forget where the content of messages stands."""
    connection.executemany(_FORGET_CONTENT, [places(id) for (id,) in rows])
    connection.executemany(_GROWN, rows)


def extend_lifetimes(connection: sqlite3.Connection, rows: Sequence[Row], at: Extent) -> None:
    """Set the ends of lifetimes."""
    connection.executemany("UPDATE message SET expires = ?2 WHERE id = ?1", rows)


def forget(connection: sqlite3.Connection, rows: Sequence[Row], at: Extent) -> None:
    """Remove everything about messages."""
    connection.executemany(_FORGET_CONTENT, [places(id) for (id,) in rows])
    for table, column in _TABLES:
        connection.executemany(f"DELETE FROM {table} WHERE {column} = ?", rows)


_TABLES = (
    ("recipient", "message"), ("attempt", "message"), ("journal", "message"), ("message", "id"), ("compact", "id"),
)  # fmt: skip
_INSERT_MESSAGE = insert("message", len(Message._fields))
_INSERT_COMPACT = insert("compact", len(Message._fields) + 5)
_INSERT_CONTENT = insert("content", 4)
_FORGET_CONTENT = "DELETE FROM content WHERE place BETWEEN ? AND ?"
_GROWS = "INSERT OR IGNORE INTO growing SELECT ?1 WHERE NOT EXISTS (SELECT 1 FROM message WHERE id = ?1)"
_GROWN = "DELETE FROM growing WHERE message = ?"
_ADD_TAKEN = "INSERT INTO taken VALUES (?, ?, ?) ON CONFLICT (who, hour) DO UPDATE SET count = count + excluded.count"
