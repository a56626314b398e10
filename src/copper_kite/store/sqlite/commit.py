"""Rows into the database: one transaction of the engine for all that waits, then its commit.

A transaction that fails leaves nothing behind and does not touch its neighbours.
"""

from __future__ import annotations

import errno
import sqlite3
from collections.abc import Sequence

from copper_kite.store.shared.batch import FAILED, FULL, Batch, Fault
from copper_kite.store.shared.encoding import ADD_MESSAGE, RECORD_RELAYED, Row
from copper_kite.store.shared.storable import storable
from copper_kite.store.sqlite.kinds import apply

__all__ = ["commit", "failure", "holds_content", "used_segments"]


def commit(connection: sqlite3.Connection, batch: Batch) -> list[Fault | None]:
    """Commit everything to stable storage; for each transaction, the fault that prevented it, if any."""
    # All of a batch in one transaction of the database, its rows sorted by kind, so that each statement runs once for
    # many rows. Only when that fails does it matter whose fault it is: then each transaction is written by itself.
    try:
        connection.execute("BEGIN IMMEDIATE")
        _write(connection, batch)
        faults: list[Fault | None] = [None] * batch.size
    except Exception:  # whatever it is, it is one transaction's, and not the others'
        _roll_back(connection)
        faults = _write_singly(connection, storable(batch.singled()))
    try:
        if connection.in_transaction:
            connection.execute("COMMIT")
    except sqlite3.Error as error:
        _roll_back(connection)
        # A COMMIT that fails has kept nothing: SQLite undoes it at the latest when the file is opened again.
        failure = _fault(error)
        return [fault or failure for fault in faults]
    return faults


def _write(connection: sqlite3.Connection, batch: Batch) -> None:
    rows: dict[int, list[Row]] = {}
    if batch.additions:
        rows[ADD_MESSAGE] = list(batch.additions)
    if batch.relayed:
        rows[RECORD_RELAYED] = list(batch.relayed)
    for steps in batch.others:
        for number, row in steps:
            rows.setdefault(number, []).append(row)
    apply(connection, rows, batch.at)


def _write_singly(connection: sqlite3.Connection, batch: Sequence[Batch]) -> list[Fault | None]:
    """Leave out those that fail, so that none of them takes another with it.

    An error may undo the whole transaction, what went before it included (a full disk does): so each time, those
    that are left begin anew. When the disk is full, what follows is not tried either.
    """
    faults: list[Fault | None] = [None] * len(batch)
    while any(fault is None for fault in faults):
        failed = _write_until_one_fails(connection, batch, faults)
        if failed is None:
            break
        _roll_back(connection)
        number, fault = failed
        faults[number] = fault
        if fault[0] == FULL:
            faults[number + 1 :] = [later or fault for later in faults[number + 1 :]]
    return faults


def _write_until_one_fails(
    connection: sqlite3.Connection, batch: Sequence[Batch], faults: Sequence[Fault | None]
) -> tuple[int, Fault] | None:
    number = 0
    try:
        connection.execute("BEGIN IMMEDIATE")
        for number, result in enumerate(batch):
            if faults[number] is None:
                _write(connection, result)
    except Exception as error:
        return number, _fault(error)
    return None


def _roll_back(connection: sqlite3.Connection) -> None:
    if connection.in_transaction:
        connection.execute("ROLLBACK")


def _fault(error: Exception) -> Fault:
    full = getattr(error, "sqlite_errorcode", None) == sqlite3.SQLITE_FULL
    return FULL if full else FAILED, str(error) if isinstance(error, sqlite3.Error) else repr(error)


def failure(error: OSError) -> Fault:
    """The fault that kept content from stable storage."""
    return FULL if error.errno in (errno.ENOSPC, errno.EDQUOT) else FAILED, error.strerror or str(error)


def holds_content(connection: sqlite3.Connection) -> bool:
    """Whether anything is kept in any segment."""
    row = connection.execute("SELECT EXISTS (SELECT 1 FROM content) OR EXISTS (SELECT 1 FROM compact)").fetchone()
    return bool(row[0])


def used_segments(connection: sqlite3.Connection) -> set[int]:
    """The segments that hold something."""
    rows = connection.execute("SELECT segment FROM content UNION SELECT segment FROM compact")
    return {number for (number,) in rows}
