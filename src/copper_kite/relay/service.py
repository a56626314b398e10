"""The life of the server: the folder is locked, the store opened, listeners bound; and all of it undone in order."""

from __future__ import annotations

import asyncio
import contextlib
import os
import socket
from collections.abc import Callable
from pathlib import Path

from copper_kite.clock import Clock, SystemClock
from copper_kite.errors import KiteError, ListenFailed
from copper_kite.net.server import ServerSession, SessionRegistry
from copper_kite.relay.dispatch import Dispatcher, Done
from copper_kite.relay.intake import Intake, Submission
from copper_kite.settings.load import Loaded
from copper_kite.settings.model import Listener
from copper_kite.settings.units import Endpoint
from copper_kite.smtp.extensions import Offers
from copper_kite.store.folder import FolderLock
from copper_kite.store.ids import IdMaker
from copper_kite.store.model import Change, JournalEntry
from copper_kite.store.process import Channel, start_process
from copper_kite.store.reads import Reader
from copper_kite.store.writer import GroupWriter
from copper_kite.words import Event

__all__ = ["Service"]

STOP_SECONDS = 10.0
BACKLOG = 512


class Service:
    """A running server. Build it inside a loop, `start` it, `stop` it.

    `lost` is set when it cannot go on: the process that writes the queue is gone.
    """

    def __init__(self, loaded: Loaded, clock: Clock | None = None) -> None:
        self._loop = asyncio.get_running_loop()
        self.lost = asyncio.Event()
        self._loaded = loaded
        self._clock = clock or SystemClock()
        self._registry = SessionRegistry()
        self._listening: list[asyncio.Server] = []
        self._sockets: list[Path] = []
        self._undo: list[Callable[[], None]] = []
        self._dispatcher: Dispatcher | None = None
        self._writer: GroupWriter | None = None

    async def start(self) -> list[Endpoint]:
        """Serve; returns the addresses listened on. Raises StoreError or ListenFailed, with nothing left behind."""
        try:
            return await self._start()
        except BaseException:
            await self.stop(0.0)
            raise

    async def _start(self) -> list[Endpoint]:
        loaded, now = self._loaded, self._clock.now()
        lock = FolderLock(loaded.data, now)
        self._undo.append(lock.release)
        self._writer = self._start_writer(start_process(loaded.data, [lock.fileno()]))
        reader = Reader(loaded.data)
        self._undo.append(reader.close)
        ids = IdMaker(reader.last_id())
        await self._begin(reader, now)
        self._dispatcher = Dispatcher(loaded, self._writer.submit, reader, ids, self._clock)
        bound = []
        for listener in loaded.settings.listener:
            submission = Submission(loaded, listener, ids, self._clock, self._writer.submit, self._dispatcher.offer)
            bound += [await self._listen(listener, endpoint, submission) for endpoint in listener.bind]
        self._dispatcher.start()
        return bound

    def _start_writer(self, channel: Channel) -> GroupWriter:
        def lost() -> None:
            self._loop.remove_reader(channel)
            self.lost.set()

        def close() -> None:
            self._loop.remove_reader(channel)
            writer.close()

        writer = GroupWriter(channel, self._loop.call_soon, lost)
        self._loop.add_reader(channel, writer.answered)
        self._undo.append(close)
        return writer

    async def _write(self, change: Change) -> None:
        assert self._writer is not None
        written: asyncio.Future[None] = self._loop.create_future()
        done: Done = lambda error: written.set_exception(error) if error else written.set_result(None)  # noqa: E731
        self._writer.submit(change, done)
        await written

    async def _begin(self, reader: Reader, now: float) -> None:
        """Record the start, and sweep out what a crash left of submissions that were not whole."""
        entry = JournalEntry(at=now, event=Event.STARTED, facts={"pid": os.getpid()})
        await self._write(Change(journal=[entry], dropped=reader.stray_content()))

    async def _listen(self, listener: Listener, endpoint: Endpoint, submission: Submission) -> Endpoint:
        offers = Offers(max_size=listener.max_size)

        def session() -> ServerSession:
            return ServerSession(self._loaded.server_name, offers, Intake(submission), self._registry)

        try:
            if endpoint.path:
                self._listening.append(await self._loop.create_unix_server(session, sock=self._unix_socket(endpoint)))
            else:
                server = await self._loop.create_server(session, endpoint.host, endpoint.port, backlog=BACKLOG)
                self._listening.append(server)
        except PermissionError as error:
            remedy = "ports below 1024 need the right to bind them; try 2525" if 0 < endpoint.port < 1024 else ""
            raise ListenFailed(listener.name, str(endpoint), "not permitted", remedy) from error
        except OSError as error:
            problem = (error.strerror or str(error)).lower()
            remedy = "another program listens there: stop it, or choose another port" if "in use" in problem else ""
            raise ListenFailed(listener.name, str(endpoint), problem, remedy) from error
        return endpoint

    def _unix_socket(self, endpoint: Endpoint) -> socket.socket:
        """A socket at the path, open to every local user; a stale one is replaced, a living one is not."""
        path = Path(endpoint.path)
        path.parent.mkdir(parents=True, exist_ok=True)
        sock = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
        try:
            sock.connect(endpoint.path)
        except ConnectionRefusedError:
            path.unlink()
        except FileNotFoundError:
            pass
        else:
            sock.close()
            raise OSError(0, "address already in use")
        sock.close()
        sock = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
        sock.bind(endpoint.path)
        path.chmod(0o666)
        self._sockets.append(path)
        return sock

    async def stop(self, seconds: float = STOP_SECONDS) -> None:
        """Take nothing new, finish what is in hand within `seconds`, and let go of everything; once is enough."""
        while self._listening:
            self._listening.pop().close()
        while self._sockets:
            self._sockets.pop().unlink(missing_ok=True)
        await self._registry.stop(seconds)
        dispatcher, self._dispatcher = self._dispatcher, None
        if dispatcher is not None:
            await dispatcher.stop(seconds)
            entry = JournalEntry(at=self._clock.now(), event=Event.STOPPED)
            with contextlib.suppress(KiteError):  # a full disk must not keep the server from stopping
                await self._write(Change(journal=[entry]))
        while self._undo:
            self._undo.pop()()
