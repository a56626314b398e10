"""The process that writes into the shared database, and keeps the server's lease.

While the database is away it tries again, and the server waits: nobody is answered before a commit. It ends when the
channel does, however the server at the other end dies, or when another server has taken over.
"""

from __future__ import annotations

import contextlib
import json
import random
import select
import socket
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar

import psycopg

from copper_kite.smtp import Secret
from copper_kite.store.place import StorePlace
from copper_kite.store.postgres.commit import AlreadyWritten, Fenced, Identity, claim, commit, is_passing
from copper_kite.store.postgres.kinds import Tables
from copper_kite.store.postgres.lease import LeaseCell
from copper_kite.store.postgres.link import Database, connect
from copper_kite.store.shared.batch import LOST, Batch, Fault
from copper_kite.store.shared.channel import Channel, become_writer
from copper_kite.store.shared.shared_buffer import SharedBuffer

__all__ = ["Keeper", "main", "secret_of"]

COMMIT_SECONDS = 30.0  # that a statement or a commit may take: then the connection counts as lost
AGAIN_SECONDS = (0.1, 2.0)  # from one try to connect to the next: the first, and the longest
RENEWALS = 6  # in the time of a lease

R = TypeVar("R")


class ServerGone(Exception):
    """Raised when the server at the other end of the channel has gone while the database was away."""


class Keeper:
    """Writes for one server, and extends its lease; over as many connections as it takes."""

    def __init__(self, place: StorePlace, me: Identity, cell: LeaseCell, octets: memoryview, gone: Callable[[], bool]):
        self._place = place
        self._me = me
        self._cell = cell
        self._octets = octets
        self._gone = gone
        self._tables: Tables | None = None
        self._number = 0  # of the last batch

    def write(self, batch: Batch) -> list[Fault | None]:
        """Write a batch, however often the connection breaks. Raises Fenced, ServerGone."""
        number, faults = self._number + 1, list[Fault | None]()

        def known(found: list[Fault | None]) -> None:
            faults[:] = found

        def once(tables: Tables) -> None:
            with contextlib.suppress(AlreadyWritten):
                commit(tables, lambda: claim(tables, self._me, number, self._place.lease), batch, known)

        self._until_done(once)
        self._number = number
        return faults

    def renew(self) -> None:
        """Extend the lease, where the loop of the server turns. Raises Fenced."""
        if self._cell.quiet_for() > self._place.lease / 2:
            return  # it is held up or stopped: whoever cannot send must not keep the mail from others
        began = time.monotonic()
        try:
            tables = self._tables or self._connect()
            renewed = tables.connection.execute(_RENEW, (self._place.lease, *self._me))
            if not renewed.rowcount:
                raise Fenced
            tables.connection.commit()
            self._cell.renew(began, self._place.lease)
        except psycopg.Error:
            self._drop()

    def _until_done(self, once: Callable[[Tables], None]) -> None:
        wait, longest = AGAIN_SECONDS
        while True:
            began = time.monotonic()
            try:
                tables = self._tables or self._connect()
                once(tables)
                tables.connection.commit()  # ends what only looked
                self._cell.renew(began, self._place.lease)
                return
            except psycopg.Error as error:
                closed = self._tables is None or self._tables.connection.closed
                if not (closed or is_passing(error, closed) or isinstance(error, psycopg.OperationalError)):
                    raise
                self._drop()
            except BaseException:
                self._drop()
                raise
            if self._gone():
                raise ServerGone
            time.sleep(wait * random.uniform(0.5, 1.0))
            wait = min(2 * wait, longest)

    def _connect(self) -> Tables:
        connection: Database = connect(self._place, COMMIT_SECONDS, autocommit=False, by_key=True)
        connection.execute("SELECT set_config('synchronous_commit', 'on', false)"
                           " WHERE current_setting('synchronous_commit') IN ('off', 'local')")  # fmt: skip
        connection.commit()
        self._tables = Tables(connection, self._me.slot, self._octets)
        return self._tables

    def _drop(self) -> None:
        if self._tables is not None:
            self._tables.connection.close()
            self._tables = None

    def leave(self) -> None:
        """Another machine may enter by the name of this server; what waits is its own until the lease is over."""
        with contextlib.suppress(psycopg.Error):
            tables = self._tables or self._connect()
            tables.do("UPDATE server SET folder = '' WHERE slot = %s AND epoch = %s", *self._me)
            tables.connection.commit()

    def close(self) -> None:
        """End: the lease goes on until its time, so that a server that comes back at once finds its mail."""
        self._drop()


_RENEW = "UPDATE server SET lease_until = now() + %s * interval '1 second' WHERE slot = %s AND epoch = %s"


def serve(channel: Channel, keeper: Keeper, lease: float) -> None:
    """Commit batch after batch, until the other end is gone. Raises Fenced."""
    keeper.renew()
    while True:
        if not select.select([channel], [], [], lease / RENEWALS)[0]:
            keeper.renew()
            continue
        batch = channel.receive()
        if not batch:
            if batch is not None:
                keeper.leave()
            return
        _, *given = batch
        waiting = Batch((0, 0), *given)
        try:
            channel.send(keeper.write(waiting))
        except Fenced:
            channel.send([(LOST, "another server has taken over the mail of this one")] * waiting.size)
            raise


def secret_of(place: StorePlace, me: Identity) -> bytes:
    """The secret for the process, which must not show in a process list."""
    values = {name: getattr(place, name) for name in ("url", "tls", "trust", "server", "lease")}
    password = None if place.password is None else place.password.reveal()
    return json.dumps({**values, "folder": str(place.folder), "password": password, "me": me}).encode()


def _place_of(secret: bytes) -> tuple[StorePlace, Identity]:
    values: dict[str, Any] = json.loads(secret)
    me, password = Identity(*values.pop("me")), values.pop("password")
    folder = Path(values.pop("folder"))
    return StorePlace(folder, password=None if password is None else Secret(password), **values), me


def main(lease: str, descriptor: str, handed: str) -> None:
    """The process."""
    become_writer()
    sock = socket.socket(fileno=int(descriptor))
    channel, cell = Channel(sock), LeaseCell(int(lease))
    place, me = _place_of(channel.receive())

    def gone() -> bool:
        poll = select.poll()
        poll.register(sock, select.POLLHUP)
        return bool(poll.poll(0))

    keeper = Keeper(place, me, cell, SharedBuffer(int(handed)).memory, gone)
    try:
        serve(channel, keeper, place.lease)
    except Fenced:
        sys.stderr.write(f"kite: another server has taken over the mail of {place.server}: its lease was over\n")
    except ServerGone:
        pass
    finally:
        keeper.close()


if __name__ == "__main__":
    main(*sys.argv[1:])
