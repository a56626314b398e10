"""The engine for several servers: queue, journal, content and counts in a PostgreSQL database."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import psycopg

from copper_kite.errors import KiteError, StoreError
from copper_kite.store.contract import CallbackFailed, Defer
from copper_kite.store.health import Rescued, Verified
from copper_kite.store.model import AdminRequest
from copper_kite.store.operations import Transaction
from copper_kite.store.place import StorePlace
from copper_kite.store.postgres.commit import Identity, commit
from copper_kite.store.postgres.history import postgres_history
from copper_kite.store.postgres.kinds.tables import CHANNEL
from copper_kite.store.postgres.link import Database, away, connect
from copper_kite.store.postgres.reads import PostgresReads
from copper_kite.store.postgres.schema import demand_database, demand_schema, migrate
from copper_kite.store.postgres.views import PostgresReader
from copper_kite.store.shared.batch import Batch, Fault, error_of
from copper_kite.store.shared.encoding import encode
from copper_kite.store.shared.history import EngineHistory
from copper_kite.store.shared.shared_buffer import summed

if TYPE_CHECKING:
    from copper_kite.store.postgres.peers import Listening
    from copper_kite.store.postgres.shared_writer import SharedWriter

__all__ = ["PostgresStore"]


class PostgresStore:
    """A `store.contract.Store` that several servers share. What few commands need is imported when it is needed."""

    def __init__(self, place: StorePlace) -> None:
        self._place = place
        self._me: Identity | None = None

    def reader(self) -> PostgresReader:
        return PostgresReader(self._place)

    def server_reads(self) -> PostgresReads:
        return PostgresReads(self._place, self._me)

    def history(self) -> EngineHistory:
        return postgres_history(self._place)

    def start_writer(
        self, defer: Defer, lost: Callable[[], None], callback_failed: CallbackFailed, keep: Sequence[int] = ()
    ) -> SharedWriter:
        from copper_kite.store.postgres.servers import enter
        from copper_kite.store.postgres.shared_writer import start_shared_writer

        try:
            with connect(self._place) as connection:
                migrate(connection, self._place)
                self._me = enter(connection, self._place, time.time())
        except psycopg.Error as error:
            raise away(self._place, error) from error
        return start_shared_writer(self._place, self._me, keep, defer, lost, callback_failed)

    def listen(self, heard: Callable[[], object]) -> Listening:
        from copper_kite.store.postgres.peers import Listening

        return Listening(self._place, heard)

    def write(self, transactions: Sequence[Transaction], *, durable: bool = True) -> list[KiteError | None]:
        from copper_kite.store.postgres.kinds import Tables

        octets = bytearray()

        def put(portion: bytes) -> int:
            start = len(octets)
            octets.extend(portion + summed(portion))
            return start

        batch = Batch(others=[encode(transaction, put) for transaction in transactions])
        try:
            with connect(self._place, autocommit=False) as connection:
                migrate(connection, self._place)
                slot = self._slot(connection)
                connection.commit()  # a batch that fails is rolled back
                faults: list[Fault | None] = []
                commit(Tables(connection, slot, octets), lambda: lambda: None, batch, faults.extend)
        except psycopg.Error as error:
            raise away(self._place, error) from error
        return [None if fault is None else error_of(fault) for fault in faults]

    def _slot(self, connection: Database) -> int:
        """In whose name a command writes: that of this server, or of nobody."""
        from copper_kite.store.postgres.servers import slot_of_name

        return slot_of_name(connection, self._place) if self._place.server else 0

    def add_requests(self, wanted: Sequence[AdminRequest]) -> list[int]:
        try:
            with connect(self._place) as connection, connection.transaction():
                numbers = [
                    number
                    for item in wanted
                    for (number,) in connection.execute(
                        _WANT if item.message else _WANT_OF_ALL,
                        (item.at, item.who, item.action.value, item.message, item.recipient, item.target),
                    )
                ]
                connection.execute(f"NOTIFY {CHANNEL}")
                return numbers
        except psycopg.Error as error:
            raise away(self._place, error) from error

    def probe(self) -> None:
        try:
            with connect(self._place) as connection:
                demand_database(connection, self._place)
                demand_schema(connection, self._place, least=0)
        except psycopg.Error as error:
            raise away(self._place, error) from error

    def upgrade(self) -> None:
        try:
            with connect(self._place) as connection:
                migrate(connection, self._place)
        except psycopg.Error as error:
            raise away(self._place, error) from error

    def watch(self) -> Callable[[], str]:
        return str  # no file of it can be deleted under the server

    def verify(self) -> Verified:
        from copper_kite.store.postgres.verify import verify

        return verify(self._place)

    def rescue(self, into: Path, now: float) -> Rescued:
        problem = "a queue in PostgreSQL is not rebuilt from files"
        raise StoreError(str(self._place), problem, "restore the database from its backup")


_WANT = (
    "INSERT INTO wanted (at, who, action, message, recipient, target) VALUES (%s, %s, %s, %s, %s, %s) RETURNING number"
)
# What is wanted of a connector is wanted of each server that is alive.
_WANT_OF_ALL = (
    "INSERT INTO wanted (at, who, action, message, recipient, target, server)"
    " SELECT v.*, s.slot FROM server s, (VALUES (%s::float8, %s::text, %s::text, %s::bigint, %s::int, %s::text)) v"
    " WHERE s.lease_until > now() RETURNING number"
)
