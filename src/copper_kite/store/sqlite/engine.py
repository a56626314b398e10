"""The engine that comes with the product: SQLite for what is looked up, files of its own for content."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import ExitStack, closing
from pathlib import Path
from typing import TYPE_CHECKING

from copper_kite.errors import KiteError
from copper_kite.store.contract import CallbackFailed, Defer
from copper_kite.store.model import AdminRequest
from copper_kite.store.operations import Transaction
from copper_kite.store.shared.history import EngineHistory
from copper_kite.store.sqlite.history import sqlite_history
from copper_kite.store.sqlite.schema import DATABASE, connect_reader
from copper_kite.store.sqlite.views import SqliteReader

if TYPE_CHECKING:
    from copper_kite.store.health import Rescued, Verified
    from copper_kite.store.shared.writer import GroupWriter

__all__ = ["SqliteStore"]


class SqliteStore:
    """A `store.contract.Store` in one data folder. What few commands need is imported when it is needed."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder

    def reader(self) -> SqliteReader:
        return SqliteReader(self._folder)

    def server_reads(self) -> SqliteReader:
        return SqliteReader(self._folder)

    def history(self) -> EngineHistory:
        return sqlite_history(self._folder)

    def start_writer(
        self, defer: Defer, lost: Callable[[], None], callback_failed: CallbackFailed, keep: Sequence[int] = ()
    ) -> GroupWriter:
        from copper_kite.store.shared.writer import GroupWriter
        from copper_kite.store.sqlite.process import start_process

        return GroupWriter(*start_process(self._folder, keep), defer, lost, callback_failed)

    def listen(self, heard: Callable[[], object]) -> ExitStack:
        return ExitStack()  # nobody else has anything for this server

    def write(self, transactions: Sequence[Transaction], *, durable: bool = True) -> list[KiteError | None]:
        from copper_kite.store.shared.batch import error_of
        from copper_kite.store.sqlite.alone import write_alone

        faults = write_alone(self._folder, transactions, durable=durable)
        return [None if fault is None else error_of(fault) for fault in faults]

    def add_requests(self, wanted: Sequence[AdminRequest]) -> list[int]:
        from copper_kite.store.sqlite.alone import add_requests

        return add_requests(self._folder, wanted)

    def probe(self) -> None:
        if (self._folder / DATABASE).exists():
            connect_reader(self._folder).close()

    def upgrade(self) -> None:
        from copper_kite.store.sqlite.schema import connect_writer

        connect_writer(self._folder).close()

    def watch(self) -> Callable[[], str]:
        from copper_kite.store.sqlite.witness import Witness

        return Witness(self._folder).gone

    def verify(self) -> Verified:
        from copper_kite.store.sqlite.verify import verify

        return verify(self._folder)

    def rescue(self, into: Path, now: float) -> Rescued:
        from copper_kite.store.folder import FolderLock
        from copper_kite.store.sqlite.rescue import rescue

        with closing(FolderLock(self._folder, now)):
            return rescue(self._folder, into, now)
