"""A batch into the database: one transaction for all that waits, which also shows that this server still is itself.

A transaction that fails leaves nothing behind and does not touch its neighbours.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any, NamedTuple

import psycopg

from copper_kite.store.postgres.kinds import Tables, apply
from copper_kite.store.shared.batch import FAILED, FULL, Batch, Fault
from copper_kite.store.shared.encoding import ADD_MESSAGE, RECORD_RELAYED, Row
from copper_kite.store.shared.storable import storable

__all__ = ["AlreadyWritten", "Fenced", "Identity", "claim", "commit", "is_passing"]


class Identity(NamedTuple):
    """A server among those that share the queue: its number, and how often that was given."""

    slot: int
    epoch: int


class Fenced(Exception):
    """Raised when another server has taken over what this one had."""


class AlreadyWritten(Exception):
    """Raised when the batch was written, though the connection broke before the answer came."""


def claim(tables: Tables, me: Identity, number: int, lease: float) -> Callable[[], None]:
    """Begin the batch of that number, and extend the lease; what checks the answer, when it is there.

    That raises Fenced, or AlreadyWritten.
    """
    # The row of this server is the fence: others that take over raise its epoch, so either this transaction comes
    # first, and they see all of it, or it fails. Its number says after a lost connection whether the COMMIT, whose
    # answer did not come, was carried out; the lock on the row makes a second try wait for the end of the first.
    claimed = tables.connection.execute(_CLAIM, (number, lease, me.slot, me.epoch, number - 1))

    def check() -> None:
        if not claimed.rowcount:
            row = tables.connection.execute("SELECT epoch, batch FROM server WHERE slot = %s", (me.slot,)).fetchone()
            raise AlreadyWritten if row == (me.epoch, number) else Fenced

    return check


_CLAIM = (
    "UPDATE server SET batch = %s, lease_until = now() + %s * interval '1 second'"
    " WHERE slot = %s AND epoch = %s AND batch = %s"
)


Begin = Callable[[], Callable[[], None]]


def commit(tables: Tables, begin: Begin, batch: Batch, known: Callable[[list[Fault | None]], None]) -> None:
    """Write a batch in a transaction; for each of the batch, the fault that prevented it, if any, is made `known`
    before the COMMIT: should the answer to that be lost, it still holds.

    `begin` begins the transaction, and gives what checks its answer. All is on stable storage when this returns.
    Raises what the check does, and psycopg.Error for what is no single transaction's fault.
    """
    connection = tables.connection
    try:
        with connection.pipeline() as pipeline:  # all statements go at once, and the answers come at once
            check = begin()
            _write(tables, batch)
            pipeline.sync()
            check()
            known([None] * batch.size)
            connection.commit()
            return
    except (Fenced, AlreadyWritten):
        raise
    except Exception as error:  # whatever it is, it is one transaction's, and not the others'
        if is_passing(error, connection.closed):
            raise
    connection.rollback()
    begin()()
    faults: list[Fault | None] = []
    for single in batch.singled():
        faults.append(faults[-1] if faults and _is_full(faults[-1]) else _write_one(tables, single))
    known(faults)
    connection.commit()


def _is_full(fault: Fault | None) -> bool:
    return fault is not None and fault[0] == FULL


def _write_one(tables: Tables, batch: Batch) -> Fault | None:
    try:
        with tables.connection.transaction():
            _write(tables, Batch._make(map(_acceptable, batch)))
    except Exception as error:
        if is_passing(error, tables.connection.closed):
            raise
        full = isinstance(error, psycopg.errors.DiskFull)
        return FULL if full else FAILED, str(error).strip() or repr(error)
    return None


def is_passing(error: Exception, closed: bool) -> bool:
    """Whether the same may work another time, or on another connection."""
    return closed or isinstance(error, _PASSING)


_PASSING = (
    psycopg.InterfaceError,
    psycopg.errors.SerializationFailure,
    psycopg.errors.DeadlockDetected,
    psycopg.errors.ReadOnlySqlTransaction,  # a standby now
    psycopg.errors.QueryCanceled,
    psycopg.errors.LockNotAvailable,
    psycopg.errors.TooManyConnections,
)


def _acceptable(value: Any) -> Any:
    """What the database can keep: no lone surrogates, no NUL in text."""
    return _without_nul(storable(value))


def _without_nul(value: Any) -> Any:
    if isinstance(value, str):
        return value.replace("\0", "\ufffd")
    if isinstance(value, dict):
        return {_without_nul(key): _without_nul(entry) for key, entry in value.items()}
    if isinstance(value, list | tuple):
        return type(value)(map(_without_nul, value))
    return value


def _write(tables: Tables, batch: Batch) -> None:
    rows: dict[int, list[Row]] = {}
    if batch.additions:
        rows[ADD_MESSAGE] = list(batch.additions)
    if batch.relayed:
        rows[RECORD_RELAYED] = list(batch.relayed)
    steps: Sequence[tuple[int, Row]]
    for steps in batch.others:
        for number, row in steps:
            rows.setdefault(number, []).append(row)
    apply(tables, rows)
