"""The life of the server: the folder is locked, the store opened, listeners bound; and all of it undone in order."""

from __future__ import annotations

import asyncio
import contextlib
import os
import signal
import ssl
from collections.abc import Callable, Sequence
from functools import partial
from typing import Any

from copper_kite.clock import Clock, SystemClock, span_text
from copper_kite.errors import KiteError, ListenFailed, NeedsRestart, StoreError, StoreFull
from copper_kite.net.server import ServerSession, SessionRegistry
from copper_kite.relay.dispatch import Dispatcher
from copper_kite.relay.gate import Gate
from copper_kite.relay.intake import Intake
from copper_kite.relay.lag import LagMonitor
from copper_kite.relay.listening import Listening
from copper_kite.relay.live import Publisher
from copper_kite.relay.log import Log, open_log
from copper_kite.relay.refusals import Refusal, Refusals
from copper_kite.relay.retention import Retention
from copper_kite.relay.room import Room
from copper_kite.relay.submission import Submission
from copper_kite.relay.supervisor import Repeated, Supervisor
from copper_kite.relay.usage import Usage
from copper_kite.relay.watched import WatchedClock
from copper_kite.settings.load import Loaded
from copper_kite.settings.model import Listener
from copper_kite.settings.server_tls import server_context
from copper_kite.settings.units import Endpoint
from copper_kite.smtp.extensions import Offers
from copper_kite.smtp.limits import Limits
from copper_kite.store import (
    Change,
    Channel,
    Done,
    FolderLock,
    Fresh,
    GroupWriter,
    Handed,
    IdMaker,
    JournalEntry,
    Note,
    Reader,
    Witness,
    start_process,
    write_note,
)
from copper_kite.words import Event

__all__ = ["Service"]

STOP_SECONDS = 10.0
FOLDER_SECONDS = 0.5  # from one look at the data folder to the next
CLOCK_SECONDS = 1.0  # from one look at the clock to the next, when nobody else asks
LOOK_SECONDS = 30.0  # from one look at the certificates' files to the next


LOGINS = ("SCRAM-SHA-256", "PLAIN", "LOGIN")  # what can be checked against the keys that are kept


def _changed(files: Sequence[str]) -> tuple[float, ...]:
    """When each of them was changed last; nothing while one is not there."""
    try:
        return tuple(os.stat(file).st_mtime for file in files)  # noqa: PTH116
    except OSError:
        return ()


class Service:
    """A running server. Build it inside a loop, `start` it, `stop` it.

    `lost` is set when it cannot go on: the process that writes the queue is gone.
    """

    def __init__(self, loaded: Loaded, clock: Clock | None = None) -> None:
        self._loop = asyncio.get_running_loop()
        self.lost = asyncio.Event()
        self._loaded = loaded
        self._clock = WatchedClock(clock or SystemClock())
        self._registry = SessionRegistry()
        self._listening = Listening()
        self._shared: dict[Endpoint, Submission] = {}  # by where the client came in
        self._contexts: dict[Endpoint, ssl.SSLContext] = {}
        self._shown: dict[Endpoint, tuple[tuple[str, ...], tuple[float, ...]]] = {}  # files, and when they changed
        self._looker: Repeated | None = None
        self._retention: Retention | None = None
        self._reader: Reader | None = None
        self._taken_at = 0.0
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
        self._log = self._open_log(loaded)
        self._undo.append(lambda: self._log.close())
        self._supervisor = Supervisor(self._log)
        self._loop.set_exception_handler(self._supervisor.loop_fault)
        self._writer = self._start_writer(*start_process(loaded.data, [lock.fileno()]))
        reader = self._reader = Reader(loaded.data)
        self._undo.append(reader.close)
        ids = IdMaker(reader.last_id())
        await self._begin(reader, now)
        witness = Witness(loaded.data)
        self._undo.append(LagMonitor(self._held_up).stop)
        self._dispatcher = Dispatcher(
            loaded, self._writer.submit, reader, ids, self._clock, self._log, self._supervisor
        )
        self._guarded(reader, self._writer)
        self._submission = partial(
            Submission,
            ids=ids,
            clock=self._clock,
            submit=self._writer.submit,
            accepted=self._dispatcher.offer,
            gate=self._gate,
            room=self._room,
            refusals=self._refusals,
            log=self._log,
            fault=self._supervisor.note,
        )
        await self._listen(loaded)
        self._clock.stepped = self._clock_stepped
        self._undo.append(self._supervisor.every(FOLDER_SECONDS, partial(self._look_at_folder, witness)).cancel)
        self._undo.append(self._supervisor.every(CLOCK_SECONDS, self._clock.look).cancel)
        self._dispatcher.start()
        self._undo.append(Publisher(loaded.data, self._dispatcher.lanes_now, self._supervisor).stop)
        with contextlib.suppress(ValueError, RuntimeError):  # only the main thread hears signals
            self._loop.add_signal_handler(signal.SIGUSR1, self._supervisor.run, self.do_what_is_wanted)
        self._dispatcher.do_what_is_wanted()
        self._retention = Retention(reader, self._writer.submit, self._clock.now, loaded.settings, self._supervisor)
        self._undo.append(self._retention.stop)
        self.sweep_out()
        self._note()
        return self._listening.endpoints

    def _guarded(self, reader: Reader, writer: GroupWriter) -> None:
        """What stands between programs and the queue."""
        self._room = Room(self._loaded.data, writer, self.sweep_out)
        self._refusals = Refusals(
            lambda change: writer.submit(change, lambda error: None), self._clock.now, self._refused
        )
        self._gate = Gate(Usage(reader.taken), self._clock.now, self._alarm, self._clock.steady)

    def _open_log(self, loaded: Loaded) -> Log:
        """Raises StoreError."""
        try:
            return open_log(loaded.settings.log, loaded.path.parent, loaded.server_name, self._clock.now)
        except OSError as error:
            place = loaded.settings.log.to
            raise StoreError(place, f"the log cannot be opened there ({error.strerror})", "see [log] to") from error

    def _refused(self, refusal: Refusal, count: int) -> None:
        self._log.write("warning", "refused", **refusal._asdict(), count=count)

    def _held_up(self, place: str, seconds: float) -> None:
        self._log.write("warning", "held up", place=place, seconds=f"{seconds:.2f}", text="nobody was served meanwhile")

    def _look_at_folder(self, witness: Witness) -> None:
        """Where the data folder is gone, nothing can be kept: the server stops, before it takes more."""
        if (gone := witness.gone()) and not self.lost.is_set():
            self._log.write("error", "folder", text=f"{gone} was deleted or replaced: nothing can be kept")
            self.lost.set()

    def _clock_stepped(self, by: float, before: float) -> None:
        """The machine's clock was set: what was computed from it is shifted, and the journal says so."""
        if self._dispatcher is None:
            return
        text = f"the clock was set {'forward' if by > 0 else 'back'} by {span_text(abs(by))}"
        self._log.write("warning", "clock", text=text)
        entry = JournalEntry(at=before + by, event=Event.CLOCK, facts={"text": text, "by": round(by, 3)})
        self._dispatcher.clock_stepped(by, before, entry)

    def _alarm(self, who: str, text: str) -> None:
        """The guard slows a sender down: the journal and the postmaster hear of it."""
        assert self._dispatcher is not None
        self._log.write("error", "alarm", who=who, text=text)
        self._dispatcher.tell_postmaster(
            f"{who} is slowed down",
            text,
            JournalEntry(at=self._clock.now(), event=Event.ALARM, facts={"who": who, "text": text}),
        )

    async def reload(self, loaded: Loaded) -> None:
        """Go on with other settings: sessions stay open, what is in hand is finished as it was begun.

        Raises NeedsRestart for what cannot change on the way, ListenFailed for an address that cannot be had; then
        everything stays as it was.
        """
        if self._dispatcher is None:
            raise NeedsRestart("the server is stopping")
        for what, before, after in (
            ("log", str(self._loaded.settings.log), str(loaded.settings.log)),
            ("data folder", str(self._loaded.data), str(loaded.data)),
            ("server's name", self._loaded.server_name, loaded.server_name),
        ):
            if before != after:
                raise NeedsRestart(f"the {what} cannot change from {before} to {after} while the server runs")
        await self._listen(loaded)
        self._dispatcher.reload(loaded)
        self._loaded = loaded
        if self._retention is not None:
            self._retention.settings = loaded.settings
        await self._write(Change(journal=[JournalEntry(at=self._clock.now(), event=Event.RELOADED)]))
        self._note()

    def do_what_is_wanted(self) -> None:
        """An administrator wants something done with messages in the queue."""
        if self._dispatcher is not None:
            self._dispatcher.do_what_is_wanted()

    def sweep_out(self) -> None:
        """Let go of what need not be kept any longer."""
        if self._retention is not None:
            self._retention.sweep()

    def refuse(self, error: KiteError) -> None:
        """A configuration was refused: note it for whoever asks, and go on with the one there is."""
        self._note(refused_at=self._clock.now(), problems=tuple(str(error).splitlines()))

    def _note(self, refused_at: float | None = None, problems: Sequence[str] = ()) -> None:
        if not refused_at:
            self._taken_at = self._clock.now()
        write_note(self._loaded.data, Note(self._loaded.source, self._taken_at, refused_at, tuple(problems)))

    async def _listen(self, loaded: Loaded) -> None:
        """Listen at what `loaded` names and nowhere else; when an address cannot be had, all stays as it was."""
        settings = loaded.settings
        self._registry.limit, self._registry.each = settings.server.sessions, settings.server.sessions_per_client
        self._room.keep_free = settings.server.keep_free
        self._room.longest_wait = settings.server.longest_wait
        self._gate.renew([account for account in settings.account if account.enabled], settings.guard)
        wanted = {endpoint: entry for entry in loaded.settings.listener if entry.enabled for endpoint in entry.bind}
        opened: list[Endpoint] = []
        try:
            for endpoint, listener in wanted.items():
                if endpoint in self._listening:
                    continue
                self._shared[endpoint] = self._submission(loaded, listener)
                self._context(loaded, endpoint, listener)
                await self._listening.open(listener.name, endpoint, partial(self._session, endpoint))
                opened.append(endpoint)
        except ListenFailed:
            for endpoint in opened:
                self._listening.close(endpoint)
            raise
        for endpoint in self._listening.endpoints:
            if endpoint not in wanted:
                self._listening.close(endpoint)
            elif endpoint not in opened:
                self._shared[endpoint].renew(loaded, wanted[endpoint])
                self._context(loaded, endpoint, wanted[endpoint])

    def _session(self, endpoint: Endpoint) -> ServerSession:
        shared = self._shared[endpoint]
        listener = shared.listener
        tls = "off" if endpoint.path else listener.tls  # a Unix socket's clients are on this machine, and known
        offers = Offers(
            max_size=listener.max_size,
            starttls=tls == "starttls",
            demands_tls=tls == "starttls",
            logins=LOGINS if listener.login != "never" and not endpoint.path else (),
            clear_logins=tls == "off",
            priorities=listener.choose_priority,
        )
        context = self._contexts.get(endpoint)
        return ServerSession(
            shared.server,
            offers,
            Intake(shared),
            self._registry,
            limits=Limits(
                recipients=listener.max_recipients, messages=listener.max_messages, patience=listener.patience
            ),
            directory=shared,
            context=context,
            secure=tls == "implicit",
            idle=listener.idle,
            longest=listener.longest,
        )

    def _context(self, loaded: Loaded, endpoint: Endpoint, listener: Listener) -> None:
        """Make the TLS context of an address; one that is in use gets the certificate as it is in the files now."""
        if listener.tls == "off" or listener.certificate is None or listener.key is None:
            return
        files = tuple(str(loaded.path.parent / name) for name in (listener.certificate, listener.key))
        context = self._contexts.get(endpoint)
        if context is None:
            self._contexts[endpoint] = server_context(*files)
        else:
            context.load_cert_chain(*files)
        self._shown[endpoint] = files, _changed(files)
        if self._looker is None:
            self._looker = self._supervisor.every(LOOK_SECONDS, self.look_at_certificates)

    def look_at_certificates(self) -> None:
        """Show what is in the files now, where that has changed; a pair that does not fit is left alone, and told."""
        for endpoint, (files, before) in list(self._shown.items()):
            if (now := _changed(files)) == before or not now:
                continue
            self._shown[endpoint] = files, now
            try:
                server_context(*files)  # first a try: one that fails midway would leave half a pair
                self._contexts[endpoint].load_cert_chain(*files)
                self._log.write("notice", "certificate", listener=self._shared[endpoint].listener.name, file=files[0])
            except OSError as error:  # of ssl, too
                self._log.write("error", "certificate", file=files[0], text=f"cannot be used: {error}")

    def _start_writer(self, channel: Channel, handed: Handed) -> GroupWriter:
        def lost() -> None:
            self._loop.remove_reader(channel)
            self.lost.set()

        def close() -> None:
            self._loop.remove_reader(channel)
            writer.close()

        def callback_failed(change: Any, written: bool, error: Exception) -> None:
            self._supervisor.note(error)
            if written and self._dispatcher is not None:
                messages = [change.message] if isinstance(change, Fresh) else getattr(change, "messages", ())
                self._dispatcher.left_in_store([message.id for message in messages])

        writer = GroupWriter(channel, handed, self._supervisor.soon_until_done, lost, callback_failed)
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
        """Record the start, and sweep out what a crash left of submissions that were not whole.

        Where the disk is full, that is not done now: what is in the queue can leave all the same, and make room.
        """
        entry = JournalEntry(at=now, event=Event.STARTED, facts={"pid": os.getpid()})
        with contextlib.suppress(StoreFull):
            await self._write(Change(journal=[entry], dropped=reader.stray_content(), swept=True))

    async def stop(self, seconds: float = STOP_SECONDS) -> None:
        """Take nothing new, finish what is in hand within `seconds`, and let go of everything; once is enough."""
        if self._looker is not None:
            self._looker.cancel()
        self._listening.close_all()
        await self._registry.stop(seconds)
        dispatcher, self._dispatcher = self._dispatcher, None
        if dispatcher is not None:
            self._refusals.flush()
            await dispatcher.stop(seconds)
            entry = JournalEntry(at=self._clock.now(), event=Event.STOPPED)
            with contextlib.suppress(KiteError):  # a full disk must not keep the server from stopping
                await self._write(Change(journal=[entry]))
        while self._undo:
            self._undo.pop()()
