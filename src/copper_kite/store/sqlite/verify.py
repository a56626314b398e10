"""Verification of the whole store, with or without a running server."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path

from copper_kite.store.health import Verified
from copper_kite.store.shared.encoding import PORTION_BITS
from copper_kite.store.sqlite.schema import connect_reader
from copper_kite.store.sqlite.segments import Extents

__all__ = ["verify"]

MOST_FAULTS = 100  # of the database's own, that are told
AT_A_TIME = 1000  # portions looked up together: a running server's log can be merged between

_PORTIONS = (
    "SELECT place, segment, start, size FROM content WHERE place > ?1 UNION ALL"
    f" SELECT id << {PORTION_BITS}, segment, start, size FROM compact WHERE id > ?1 >> {PORTION_BITS}"
    " ORDER BY 1 LIMIT ?2"
)
_STILL_THERE = (
    "SELECT 1 FROM content WHERE (place, segment, start) = (?1, ?2, ?3) UNION ALL"
    f" SELECT 1 FROM compact WHERE (id << {PORTION_BITS}, segment, start) = (?1, ?2, ?3)"
)
_WITHOUT_CONTENT = (
    "SELECT DISTINCT message FROM recipient WHERE state IN ('queued', 'delayed', 'parked')"
    f" AND message NOT IN (SELECT place >> {PORTION_BITS} FROM content)"
)


def verify(folder: Path) -> Verified:
    """Look at the database's pages and at every portion of content that is wanted. Raises StoreError."""
    verified = Verified()
    with closing(connect_reader(folder)) as connection:
        try:
            rows = connection.execute(f"PRAGMA integrity_check({MOST_FAULTS})")
            verified.database = [text for (text,) in rows if text != "ok"]
            _look_at_content(connection, folder, verified)
            for (id,) in connection.execute(_WITHOUT_CONTENT):
                verified.messages.setdefault(id, "its content is not there")
        except sqlite3.DatabaseError as error:
            verified.database.append(str(error))
    return verified


def _look_at_content(connection: sqlite3.Connection, folder: Path, verified: Verified) -> None:
    with Extents(folder) as extents:
        for place, segment, start, size in _portions(connection):
            try:
                extents.read(segment, start, size)
            except OSError as error:
                extents.close()
                if connection.execute(_STILL_THERE, (place, segment, start)).fetchone():  # it did not leave meanwhile
                    verified.messages.setdefault(place >> PORTION_BITS, str(error))
            verified.portions += 1
            verified.octets += size


def _portions(connection: sqlite3.Connection) -> Iterator[tuple[int, int, int, int]]:
    after = -1
    while rows := connection.execute(_PORTIONS, (after, AT_A_TIME)).fetchall():
        yield from rows
        after = rows[-1][0]
