"""The writer of a server that shares its queue: group commit, and the lease."""

from __future__ import annotations

import select
import time
from collections.abc import Callable, Sequence

from copper_kite.store.contract import CallbackFailed, Defer
from copper_kite.store.place import StorePlace
from copper_kite.store.postgres.commit import Identity
from copper_kite.store.postgres.lease import LeaseCell
from copper_kite.store.postgres.process import secret_of
from copper_kite.store.shared.channel import start_writing_process
from copper_kite.store.shared.writer import GroupWriter

__all__ = ["SharedWriter", "start_shared_writer"]

FINISH_SECONDS = 5.0  # for the last batches, when the server stops
START_SECONDS = 20.0  # from the start of the writer to the first turn of the loop, at most


class SharedWriter(GroupWriter):
    """A `store.contract.Writer` whose right to send ends with its lease."""

    cell: LeaseCell

    def finish(self) -> None:
        # While the database is away nothing is answered: what waits then was acknowledged to nobody.
        until = time.monotonic() + FINISH_SECONDS
        while self.waiting and not self._broken:
            if not self._batch:
                self._begin()
            if not select.select([self], [], [], max(until - time.monotonic(), 0.0))[0]:
                return
            self.answered()

    def may_send(self) -> bool:
        return self.cell.holds()

    def beat(self) -> None:
        self.cell.beat()

    def close(self) -> None:
        self.finish()
        self._channel.send(())  # an end that is meant: another machine may have the name at once
        self.end()
        self.cell.close()


def start_shared_writer(
    place: StorePlace,
    me: Identity,
    keep: Sequence[int],
    defer: Defer,
    lost: Callable[[], None],
    callback_failed: CallbackFailed,
) -> SharedWriter:
    """Start the process that writes for the server `me`."""
    cell = LeaseCell()
    cell.beat(START_SECONDS)
    channel, handed = start_writing_process(
        "copper_kite.store.postgres.process", [str(cell.descriptor)], [cell.descriptor, *keep], secret_of(place, me)
    )
    writer = SharedWriter(channel, handed, defer, lost, callback_failed)
    writer.cell = cell
    return writer
