"""The common base of the kinds of operations."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Callable, Collection, Sequence
from typing import NamedTuple

from copper_kite.store.shared.encoding import PORTION_BITS, Row
from copper_kite.store.sqlite.segments import Extent

__all__ = [
    "EXPAND_MESSAGE",
    "FORGET_COMPACT",
    "SEVERAL",
    "Kind",
    "dumps",
    "expand",
    "insert",
    "several",
]

SEVERAL = 20  # ids in one statement

dumps = json.JSONEncoder(separators=(",", ":"), ensure_ascii=False).encode


class Kind(NamedTuple):
    """A type of operation: `apply` puts many rows of it into the transaction.

    `message` tells of a row which message it speaks of; that has rows of its own then, and is compact no more.
    """

    apply: Callable[[sqlite3.Connection, Sequence[Row], Extent], None]
    message: Callable[[Row], int | None] | None = None


def insert(table: str, columns: int) -> str:
    """The statement that adds a row to a table."""
    return f"INSERT INTO {table} VALUES ({','.join('?' * columns)})"


def several(ids: Collection[int]) -> list[Row]:
    """Ids as a statement with SEVERAL places takes them: one that takes many at a time is much less work."""
    given = list(ids)
    rows = [given[start : start + SEVERAL] for start in range(0, len(given), SEVERAL)]
    return [(*row, *[None] * (SEVERAL - len(row))) for row in rows]


def expand(connection: sqlite3.Connection, ids: Collection[int]) -> None:
    """Give what is compact of these messages rows of its own in the three tables."""
    rows = several(ids)
    for statement in (EXPAND_MESSAGE, _EXPAND_RECIPIENT, _EXPAND_CONTENT, FORGET_COMPACT):
        connection.executemany(statement, rows)


_IN = f"IN ({','.join('?' * SEVERAL)})"
EXPAND_MESSAGE = f"INSERT INTO message SELECT * FROM compact_message WHERE id {_IN}"
_EXPAND_RECIPIENT = f"INSERT INTO recipient SELECT * FROM compact_recipient WHERE message {_IN}"
_EXPAND_CONTENT = f"INSERT INTO content SELECT id << {PORTION_BITS}, segment, start, size FROM compact WHERE id {_IN}"
FORGET_COMPACT = f"DELETE FROM compact WHERE id {_IN}"
