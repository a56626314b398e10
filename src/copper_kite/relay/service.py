"""The life of the server: the folder is locked, the store opened, listeners bound; and all of it undone in order."""

from __future__ import annotations

import asyncio
import contextlib
import math
import os
import signal
from collections.abc import Callable, Sequence
from contextlib import AsyncExitStack, closing
from dataclasses import dataclass
from functools import partial
from typing import Self

from copper_kite.clock import Clock, SystemClock, span_text
from copper_kite.errors import KiteError, ListenFailed, Stopping, StoreError, StoreFull
from copper_kite.net import SessionRegistry
from copper_kite.relay.admission import AdmissionControl
from copper_kite.relay.dispatch import Dispatcher
from copper_kite.relay.dropped import DropFolder
from copper_kite.relay.gate import Gate
from copper_kite.relay.keeping import Keeping
from copper_kite.relay.lag import LagMonitor
from copper_kite.relay.listeners import Listeners
from copper_kite.relay.live import Publisher
from copper_kite.relay.log import Log, open_log
from copper_kite.relay.monitoring import Monitoring
from copper_kite.relay.recordings import Recordings
from copper_kite.relay.refusals import Refusal, Refusals
from copper_kite.relay.retention import Retention
from copper_kite.relay.routes import routes_noted
from copper_kite.relay.shared_queue import SharedQueue
from copper_kite.relay.submission import Submission
from copper_kite.relay.supervisor import Supervisor
from copper_kite.relay.token_keeper import TokenKeeper
from copper_kite.relay.usage import Usage
from copper_kite.relay.watched import WatchedClock
from copper_kite.settings import Endpoint, Loaded, StoreKeys
from copper_kite.store import (
    AddMessage,
    DropContent,
    FolderLock,
    IdMaker,
    JournalEntry,
    Note,
    ServerReads,
    Store,
    Sweep,
    Transaction,
    WriteEntry,
    Writer,
    open_store,
    write_note,
)
from copper_kite.words import Event

__all__ = ["Service"]

STOP_SECONDS = 10.0
FOLDER_SECONDS = 0.5  # from one look at the data folder to the next
RECORD_STOP_SECONDS = 5.0
READ_AGAIN_SECONDS = 10.0  # what senders submitted to other servers, at the latest
CLOCK_SECONDS = 1.0  # from one look at the clock to the next, when nobody else asks


@dataclass(kw_only=True)
class Service:
    """A running server; `Service.start` makes one, inside a loop.

    `lost` is set when it cannot go on: nothing can be written any more.
    """

    lost: asyncio.Event
    loaded: Loaded
    clock: Clock
    writer: Writer
    log: Log
    dispatcher: Dispatcher
    retention: Retention
    registry: SessionRegistry
    gate: Gate
    room: AdmissionControl
    refusals: Refusals
    listeners: Listeners
    monitoring: Monitoring
    tokens: TokenKeeper
    routes: Callable[[], list[JournalEntry]]  # as they were written down
    undo: AsyncExitStack
    taken_at: float = 0.0  # when the configuration was taken up
    stopping: bool = False

    @classmethod
    async def start(cls, loaded: Loaded, clock: Clock | None = None) -> Self:
        """Serve. Raises StoreError or ListenFailed, and then releases everything."""
        async with AsyncExitStack() as undo:
            service = await cls._build(loaded, WatchedClock(clock or SystemClock()), undo)
            service.undo = undo.pop_all()
        service.note()
        return service

    @classmethod
    async def _build(cls, loaded: Loaded, clock: WatchedClock, undo: AsyncExitStack) -> Self:
        """All parts, each with what undoes it: first what is written and read, then what leaves, then what comes in."""
        lost, loop = asyncio.Event(), asyncio.get_running_loop()
        lock = undo.enter_context(closing(FolderLock(loaded.data, clock.now())))
        log = undo.enter_context(closing(_open_log(loaded, clock)))
        supervisor = Supervisor(log)
        loop.set_exception_handler(supervisor.loop_fault)
        store = open_store(loaded.store)
        writer = _start_writer(store, lock, supervisor, lost, lambda ids: dispatcher.left_in_store(ids), undo)
        reader = undo.enter_context(closing(store.server_reads()))
        ids = IdMaker(reader.last_id(), reader.slot)
        recordings = Recordings(loaded.data, clock.now)
        dispatcher = Dispatcher(
            loaded, writer.submit, reader, ids, clock, log, supervisor, recordings,
            lambda name: monitoring.send_test(name),
        )  # fmt: skip
        routes = partial(reader.noted, Event.ROUTES, 0.0)
        await _record_life(reader, writer, routes(), loaded, clock, undo)
        retention = Retention(reader, writer.submit, clock.now, loaded.settings, supervisor)
        undo.callback(retention.stop)
        keeping = _start_keeping(loaded, lock, writer, reader, supervisor, lost, dispatcher, undo)
        way_in, accepted = (writer, dispatcher.offer) if keeping is None else (keeping, keeping.accepted)
        room = AdmissionControl(loaded.data, way_in, retention.sweep)
        usage = Usage(reader.taken, math.inf if reader.slot is None else READ_AGAIN_SECONDS)
        gate = Gate(usage, clock.now, partial(_surge, dispatcher, clock), clock.steady)
        registry, refusals = SessionRegistry(), _note_refusals(writer, clock, log)
        submission = partial(
            Submission, ids=ids, clock=clock, submit=way_in.submit, accepted=accepted, gate=gate, room=room,
            refusals=refusals, recordings=recordings, log=log, fault=supervisor.note,
        )  # fmt: skip
        listeners = undo.enter_context(closing(Listeners(registry, submission, supervisor, log)))
        monitoring = Monitoring(loaded, dispatcher, writer.submit, clock, supervisor)
        undo.push_async_callback(monitoring.stop)
        tokens = TokenKeeper(clock, log)
        undo.callback(tokens.stop)
        service = cls(
            lost=lost, loaded=loaded, clock=clock, writer=writer, log=log, dispatcher=dispatcher, retention=retention,
            registry=registry, gate=gate, room=room, refusals=refusals, listeners=listeners, monitoring=monitoring,
            tokens=tokens, routes=routes, undo=undo,
        )  # fmt: skip
        service._set_limits(loaded)
        monitoring.process.bind(loaded)
        await listeners.take_up(loaded)
        tokens.take_up(loaded)
        monitoring.take_up(loaded)
        clock.stepped = partial(_clock_stepped, dispatcher)
        service._look_after(store, supervisor, clock)
        if reader.slot is not None:
            service._share_queue(store, reader, supervisor)
        dispatcher.start()
        service._take_requests(supervisor)
        retention.sweep()
        if any(endpoint.path for endpoint in listeners.endpoints):
            service._take_what_was_dropped(reader, supervisor)
        return service

    def _look_after(self, store: Store, supervisor: Supervisor, clock: WatchedClock) -> None:
        """Look after the loop, the data folder and the clock, and have others see what the lanes do."""
        self.undo.callback(LagMonitor(partial(_held_up, self.log)).stop)
        look = partial(_look_at_folder, store.watch(), self.log, self.lost)
        self.undo.callback(supervisor.every(FOLDER_SECONDS, look).cancel)
        self.undo.callback(supervisor.every(CLOCK_SECONDS, clock.look).cancel)
        self.undo.callback(Publisher(self.loaded.data, self.dispatcher.lanes_now, supervisor).stop)

    def _share_queue(self, store: Store, reader: ServerReads, supervisor: Supervisor) -> None:
        """Be one of the servers of a shared queue."""
        dispatcher = self.dispatcher
        dispatcher.may_send = self.writer.may_send
        lease = self.loaded.settings.server.lease
        shared = SharedQueue(self.writer, reader, lease, dispatcher, supervisor)
        self.undo.callback(shared.stop)
        loop = asyncio.get_running_loop()
        self.undo.callback(store.listen(partial(loop.call_soon_threadsafe, shared.wake)).close)

    def _take_requests(self, supervisor: Supervisor) -> None:
        """Carry out what administrators want: what waits since before the start, and what a signal tells of."""
        carry_out = self.dispatcher.carry_out_requests
        with contextlib.suppress(ValueError, RuntimeError):  # only the main thread receives signals
            asyncio.get_running_loop().add_signal_handler(signal.SIGUSR1, supervisor.run, carry_out)
        carry_out()

    def _take_what_was_dropped(self, reader: ServerReads, supervisor: Supervisor) -> None:
        """Take up what local programs leave in the drop folder, by the listener of the Unix socket."""
        loaded, tell = self.loaded, partial(_tell_postmaster, self.dispatcher, self.clock)
        folder = DropFolder(
            loaded.drop, loaded.data / "refused", loaded.server_name, self.listeners.local_session,
            partial(reader.noted, Event.TAKEN_UP), tell, supervisor, self.log, self.clock.now,
        )  # fmt: skip
        self.undo.enter_context(closing(folder))

    @property
    def endpoints(self) -> list[Endpoint]:
        """The addresses listened on."""
        return self.listeners.endpoints

    async def reload(self, loaded: Loaded) -> None:
        """Go on with other settings: sessions stay open, what is in hand is finished as it was begun; the log is opened
        anew. What cannot change on the way stays as it is until the next start, and is told.

        Raises ListenFailed for an address, StoreError for a log that cannot be opened; then everything stays as it was.
        """
        if self.stopping:
            raise Stopping("the server is stopping")
        waits = [
            f"the {what} stays {before} until the next start, when it becomes {after}"
            for what, before, after in (
                ("data folder", self.loaded.data, loaded.data),
                ("server's name", self.loaded.server_name, loaded.server_name),
                *((f"key {name} of [server]", *both) for name, *both in _shared_keys(self.loaded, loaded)),
            )
            if before != after
        ]
        loaded = loaded.at_the_place_of(self.loaded)
        _take_up_log(self.log, loaded)
        try:
            self.monitoring.process.bind(loaded)
            await self.listeners.take_up(loaded)
        except ListenFailed:
            self.monitoring.process.unbind()
            _take_up_log(self.log, self.loaded)
            raise
        self.monitoring.take_up(loaded)
        self.tokens.take_up(loaded)
        self._set_limits(loaded)
        self.dispatcher.reload(loaded)
        self.loaded = loaded
        self.retention.settings = loaded.settings
        now = self.clock.now()
        reloaded = WriteEntry(JournalEntry(at=now, event=Event.RELOADED))
        await _write(self.writer, [reloaded, *routes_noted(loaded.settings.connector, self.routes(), now)])
        for line in waits:
            self.log.write("warning", "restart", text=line)
        self.note(problems=waits)

    def _set_limits(self, loaded: Loaded) -> None:
        settings = loaded.settings
        self.registry.limit, self.registry.each = settings.server.sessions, settings.server.sessions_per_client
        self.room.keep_free = settings.server.keep_free
        self.room.longest_wait = settings.server.longest_wait
        self.gate.renew([account for account in settings.account if account.enabled], settings.guard)

    def refuse(self, error: KiteError) -> None:
        """Note that a configuration was refused; the server continues with the current one."""
        self.note(refused_at=self.clock.now(), problems=tuple(str(error).splitlines()))

    def note(self, refused_at: float | None = None, problems: Sequence[str] = ()) -> None:
        """Write down which configuration is in use, for commands."""
        if not refused_at:
            self.taken_at = self.clock.now()
        write_note(self.loaded.data, Note(self.loaded.source, self.taken_at, refused_at, tuple(problems)))

    async def stop(self, seconds: float = STOP_SECONDS) -> None:
        """Take nothing new, finish what is in hand within `seconds`, and let go of everything; once is enough."""
        if self.stopping:
            return
        self.stopping = True
        self.listeners.close()
        await self.registry.stop(seconds)
        try:
            self.refusals.flush()
        except Exception as error:
            self.dispatcher.fault(error)
        await self.dispatcher.stop(seconds)
        await self.undo.aclose()


# --- parts ----------------------------------------------------------------------------------------------------------


def _shared_keys(before: Loaded, after: Loaded) -> list[tuple[str, object, object]]:
    """The keys of a shared queue, by two configurations."""
    return [
        (name, getattr(before.settings.server, name), getattr(after.settings.server, name))
        for name in StoreKeys.model_fields
    ]


def _take_up_log(log: Log, loaded: Loaded) -> None:
    """Raises StoreError, with all as it was."""
    try:
        log.take_up(loaded.settings.log, loaded.path.parent, loaded.server_name)
    except OSError as error:
        place = loaded.settings.log.to
        raise StoreError(place, f"the log cannot be opened there ({error.strerror})", "see [log] to") from error


def _open_log(loaded: Loaded, clock: Clock) -> Log:
    """Raises StoreError."""
    try:
        return open_log(loaded.settings.log, loaded.path.parent, loaded.server_name, clock.now)
    except OSError as error:
        place = loaded.settings.log.to
        raise StoreError(place, f"the log cannot be opened there ({error.strerror})", "see [log] to") from error


def _start_writer(
    store: Store,
    lock: FolderLock,
    supervisor: Supervisor,
    lost: asyncio.Event,
    left: Callable[[list[int]], None],
    undo: AsyncExitStack,
) -> Writer:
    """Start the writer; `left` gets durable messages that an internal error kept from being offered."""
    loop = asyncio.get_running_loop()

    def writer_lost() -> None:
        loop.remove_reader(writer)
        lost.set()

    def callback_failed(transaction: Transaction, written: bool, error: Exception) -> None:
        supervisor.note(error)
        if written:
            left([operation.message.id for operation in transaction if isinstance(operation, AddMessage)])

    writer = store.start_writer(supervisor.soon_until_done, writer_lost, callback_failed, [lock.fileno()])
    undo.callback(writer.close)
    loop.add_reader(writer, writer.answered)
    undo.callback(loop.remove_reader, writer)
    return writer


def _start_keeping(
    loaded: Loaded,
    lock: FolderLock,
    writer: Writer,
    reads: ServerReads,
    supervisor: Supervisor,
    lost: asyncio.Event,
    dispatcher: Dispatcher,
    undo: AsyncExitStack,
) -> Keeping | None:
    """Have submissions go to the data folder while the database is away, where that is wanted."""
    if reads.slot is None or loaded.settings.server.away != "keep":
        return None
    store = open_store(loaded.data)
    local = _start_writer(store, lock, supervisor, lost, lambda ids: None, undo)
    kept = undo.enter_context(store.reader())
    keeping = Keeping(writer, local, kept, reads, supervisor, dispatcher.offer, dispatcher.left_in_store)
    undo.callback(keeping.stop)
    return keeping


async def _write(writer: Writer, transaction: Transaction) -> None:
    """Raises StoreFull, StoreFailed."""
    written: asyncio.Future[None] = asyncio.get_running_loop().create_future()
    writer.submit(transaction, lambda error: written.set_exception(error) if error else written.set_result(None))
    await written


async def _record_life(
    reader: ServerReads,
    writer: Writer,
    routes: Sequence[JournalEntry],
    loaded: Loaded,
    clock: Clock,
    undo: AsyncExitStack,
) -> None:
    """Record the start, and the routes of now where they are not the last `routes`; sweep out what a crash left of
    submissions that were not whole; at the end, record the stop.

    On a full disk that is skipped: the queue can still be relayed, which makes room.
    """

    async def record_stop() -> None:
        # A full disk must not keep the server from stopping, and no database that is away.
        with contextlib.suppress(KiteError, TimeoutError):
            async with asyncio.timeout(RECORD_STOP_SECONDS):
                await _write(writer, [WriteEntry(JournalEntry(at=clock.now(), event=Event.STOPPED))])

    now = clock.now()
    entry = JournalEntry(at=now, event=Event.STARTED, facts={"pid": os.getpid()})
    noted = routes_noted(loaded.settings.connector, routes, now)
    with contextlib.suppress(StoreFull):
        await _write(writer, [WriteEntry(entry), *noted, *map(DropContent, reader.stray_content()), Sweep()])
    undo.push_async_callback(record_stop)


def _held_up(log: Log, place: str, seconds: float) -> None:
    log.write("warning", "held up", place=place, seconds=f"{seconds:.2f}", text="nobody was served meanwhile")


def _note_refusals(writer: Writer, clock: Clock, log: Log) -> Refusals:
    def submit(transaction: Transaction) -> None:
        writer.submit(transaction, lambda error: None)

    return Refusals(submit, clock.now, partial(_refused, log))


def _refused(log: Log, refusal: Refusal, count: int) -> None:
    log.write("warning", "refused", **refusal._asdict(), count=count)


def _surge(dispatcher: Dispatcher, clock: Clock, who: str, text: str) -> None:
    """The guard slows a sender down."""
    dispatcher.log.write("error", "alarm", who=who, text=text)
    entry = JournalEntry(at=clock.now(), event=Event.SURGE, facts={"who": who, "text": text})
    dispatcher.own_mail.send_text(f"{who} is slowed down", text, entry)


def _tell_postmaster(dispatcher: Dispatcher, clock: Clock, subject: str, text: str) -> None:
    """Record it in the journal, and tell the postmaster."""
    entry = JournalEntry(at=clock.now(), event=Event.ALARM, facts={"who": "this server", "text": text})
    dispatcher.own_mail.send_text(subject, text, entry)


def _look_at_folder(gone: Callable[[], str], log: Log, lost: asyncio.Event) -> None:
    """Where the data folder is gone, nothing can be kept: the server stops, before it takes more."""
    if not lost.is_set() and (part := gone()):
        log.write("error", "folder", text=f"{part} was deleted or replaced: nothing can be kept")
        lost.set()


def _clock_stepped(dispatcher: Dispatcher, by: float, before: float) -> None:
    """The machine's clock was set: what was computed from it is shifted, and the journal says so."""
    text = f"the clock was set {'forward' if by > 0 else 'back'} by {span_text(abs(by))}"
    dispatcher.log.write("warning", "clock", text=text)
    entry = JournalEntry(at=before + by, event=Event.CLOCK, facts={"text": text, "by": round(by, 3)})
    dispatcher.clock_stepped(by, before, entry)
