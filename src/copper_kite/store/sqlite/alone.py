"""Writing without a server: for commands that hold the folder's lock, or that only add to the journal."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from copper_kite.store.model import Change
from copper_kite.store.sqlite.commit import Batch, Fault, commit, rows_of
from copper_kite.store.sqlite.labels import keep
from copper_kite.store.sqlite.schema import connect_writer, identity_of
from copper_kite.store.sqlite.segments import Segments, summed

__all__ = ["write_alone"]


def write_alone(folder: Path, changes: Sequence[Change], *, durable: bool = True) -> list[Fault | None]:
    """Have the changes on stable storage, as one transaction; each with the fault that kept it out, if one did.

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
        rows = [rows_of(change, put) for change in changes]
        at = keep(connection, segments, octets, (), rows)
        return commit(connection, Batch(at, changes=rows))
    finally:
        segments.leave()
        connection.close()
