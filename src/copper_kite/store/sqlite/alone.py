"""Writing without a server: for commands that hold the folder's lock, or that only add to the journal."""

from __future__ import annotations

import contextlib
from collections.abc import Sequence
from pathlib import Path

from copper_kite.store.model import AdminRequest
from copper_kite.store.operations import Transaction
from copper_kite.store.shared.batch import Batch, Fault
from copper_kite.store.shared.encoding import encode
from copper_kite.store.shared.shared_buffer import summed
from copper_kite.store.sqlite.commit import commit
from copper_kite.store.sqlite.labels import keep
from copper_kite.store.sqlite.schema import connect_writer, identity_of
from copper_kite.store.sqlite.segments import Segments

__all__ = ["add_requests", "write_alone"]


def write_alone(folder: Path, transactions: Sequence[Transaction], *, durable: bool = True) -> list[Fault | None]:
    """Write transactions to stable storage, all at once; for each, the fault that prevented it, if any.

    Content may be among them only where no server runs. With `durable` off, a crash of the system may lose all of it.
    Raises StoreError and SchemaTooNew as `connect_writer` does, OSError where content cannot be written.
    """
    connection, octets = connect_writer(folder), bytearray()
    segments = Segments(folder, identity_of(connection))

    def put(portion: bytes) -> int:
        start = len(octets)
        octets.extend(portion + summed(portion))
        return start

    try:
        if not durable:
            connection.execute("PRAGMA synchronous = OFF")
        steps = [encode(transaction, put) for transaction in transactions]
        at = keep(connection, segments, octets, (), steps)
        return commit(connection, Batch(at, others=steps))
    finally:
        segments.leave()
        connection.close()


def add_requests(folder: Path, wanted: Sequence[AdminRequest]) -> list[int]:
    """Note what is wanted, for the server to do; the numbers it got. Their own numbers count for nothing.

    Raises StoreError and SchemaTooNew as `connect_writer` does.
    """
    with contextlib.closing(connect_writer(folder)) as connection:
        connection.execute("BEGIN IMMEDIATE")
        numbers = []
        for item in wanted:
            row = (item.at, item.who, item.action.value, item.message, item.recipient, item.target)
            numbers.append(connection.execute("INSERT INTO wanted VALUES (NULL, ?, ?, ?, ?, ?, ?)", row).lastrowid or 0)
        connection.execute("COMMIT")
    return numbers
