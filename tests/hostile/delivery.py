"""The real delivery (dispatcher, lanes, sessions, records) against misbehaving peers, and what must hold at the end."""

from __future__ import annotations

import asyncio
import errno
import math
import random
from collections import Counter
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field
from functools import lru_cache
from pathlib import Path

from copper_kite.net import tls
from copper_kite.relay.concurrency import RAISE_SECONDS
from copper_kite.relay.dispatch import Dispatcher
from copper_kite.relay.log import Log
from copper_kite.settings.load import Loaded, load_source
from copper_kite.settings.secrets import Credential
from copper_kite.smtp.sasl import Secret
from copper_kite.store import (
    AddMessage,
    AdminRequest,
    Done,
    Due,
    IdMaker,
    LaneStop,
    Message,
    Operation,
    Recipient,
    RecordAttempt,
    RecordRelayed,
    SetState,
    StartLane,
    StopLane,
    Transaction,
    Waiting,
)
from copper_kite.words import FINAL, Cause, State
from tests.configuration import connector, site_text, table
from tests.hostile.peer import Host
from tests.hostile.virtual import STARTED, Choices, End, VirtualLoop, run

__all__ = ["EPOCH", "Scene", "deliver", "loaded", "play"]

EPOCH = 1_800_000_000.0
WAITS, LIFETIME = (60.0, 120.0), 400.0
MOST_ATTEMPTS = 6  # of one recipient: at 0, 60, 180, 300, 400 and what its own last moment adds
LINES_EACH = 4  # lines of the log for an attempt on one recipient
EXTENSIONS = (b"PIPELINING", b"SIZE 10000", b"8BITMIME", b"CHUNKING", b"DSN", b"LIMITS RCPTMAX=2", b"SMTPUTF8")


@lru_cache(maxsize=64)
def loaded(hosts: int, sessions: int, login: bool) -> Loaded:
    names = [f"h{number}.example:25" for number in range(hosts)]
    more = {"credential": "beacon", "login_in_clear": True} if login else {}
    text = site_text(
        connector("beacon", *names, tls="off", sessions=sessions, **more),
        table("[retry]", waits=["60s", "120s"], lifetime="400s", notice_after="1d"),
        bind="127.0.0.1:25",
    )
    settings = load_source(Path("kite.toml"), text, secrets=False)
    if login:
        settings.credentials["beacon"] = Credential(name="beacon", login="tern", password=Secret("the-quay-is-wet"))
    return settings


class _Lines:
    """Counts what is logged."""

    def __init__(self) -> None:
        self.lines: list[str] = []

    def write(self, line: str) -> None:
        self.lines.append(line)

    def close(self) -> None:
        """Nothing is open."""


class LoopClock:
    """The loop's time as instants."""

    def __init__(self, loop: VirtualLoop) -> None:
        self._loop = loop

    def now(self) -> float:
        return EPOCH + self._loop.now

    def steady(self) -> float:
        return self._loop.now

    def apart(self) -> float:
        return EPOCH

    def real_delay(self, until: float) -> float:
        return max(0.0, until - self.now())


@dataclass
class MemoryStore:
    """What the dispatcher needs of a store; each change counts as stable `takes` seconds later."""

    loop: VirtualLoop
    takes: Callable[[], float]
    messages: dict[int, Message] = field(default_factory=dict)
    recipients: dict[tuple[int, int], Recipient] = field(default_factory=dict)
    contents: dict[int, bytes] = field(default_factory=dict)
    attempts: Counter[tuple[int, int]] = field(default_factory=Counter)
    uncertain: Counter[tuple[int, str]] = field(default_factory=Counter)  # attempts that may have been taken
    ended: dict[tuple[int, int], float] = field(default_factory=dict)  # when
    recorded: int = 0
    moves: int = 0  # of recipients, by attempts and by waits for a next hop that is down
    internal: list[str] = field(default_factory=list)  # faults of our own

    def reserve(self, connector: str, allowance: str, since: float, most: int, count: int) -> None:
        """No other server shares an allowance."""

    def submit(self, change: Transaction, done: Done) -> None:
        self.loop.call_later(self.takes(), self._write, change, done)

    def _write(self, change: Transaction, done: Done) -> None:
        for operation in change:
            self._apply(operation)
        done(None)

    def _apply(self, operation: Operation) -> None:
        if isinstance(operation, RecordRelayed):
            self.recorded += 1
            for number, attempts, _, reply in operation.results:
                self._move(operation.message, number, State.RELAYED, attempts, None, reply, operation.now)
        elif isinstance(operation, AddMessage):
            self.add(operation)
        elif isinstance(operation, SetState):
            id, number, state, attempts, next_try, connector, reply, at, _ = operation
            self._move(id, number, state, attempts, next_try, reply, at)
            self.recipients[id, number] = self.recipients[id, number]._replace(connector=connector)
        elif isinstance(operation, StopLane | StartLane):
            self.moves += 1
        elif isinstance(operation, RecordAttempt):
            attempt = operation.attempt
            self.recorded += 1
            if attempt.cause == Cause.INTERNAL:
                self.internal.append(attempt.text)
            self.uncertain.update(
                (attempt.message, address)
                for address, state, stage, reply in attempt.facts.results
                if state != "relayed" and stage in ("content", "accept") and reply[:3] in ("", "421")
            )

    def add(self, fresh: AddMessage) -> None:
        """A message that is there from now on."""
        self.messages[fresh.message.id] = fresh.message
        self.contents[fresh.message.id] = fresh.content or b""
        self.recipients |= {(recipient.message, recipient.number): recipient for recipient in fresh.recipients}

    def _move(
        self, id: int, number: int, state: State, attempts: int, next_try: float | None, reply: str, at: float
    ) -> None:
        self.moves += 1
        before = self.recipients[id, number]
        assert before.state not in FINAL, "a recipient ended twice"
        assert attempts - before.attempts in (0, 1)
        assert next_try is None or next_try > at, "it is tried again without a pause"
        self.ended[id, number] = EPOCH + self.loop.now
        self.attempts[id, number] += attempts - before.attempts
        self.recipients[id, number] = before._replace(state=state, attempts=attempts, next_try=next_try, reply=reply)

    # --- what a reader does -----------------------------------------------------------------------------------------

    def admin_requests(self) -> list[AdminRequest]:
        return []

    def lanes(self) -> list[LaneStop]:
        return []

    def last_id(self) -> int:
        return max(self.messages, default=0)

    def ages(self, after: int, limit: int) -> list[tuple[int, float, float]]:
        waiting = sorted(id for id in self.messages if id > after and self._open(id))
        return [(id, self.messages[id].arrived, self.messages[id].expires) for id in waiting[:limit]]

    def relayed_since(self, connector: str, since: float) -> list[float]:
        return []

    def content(self, id: int) -> Iterable[bytes]:
        return (self.contents[id],)

    def _open(self, id: int) -> list[Recipient]:
        return [item for (message, _), item in self.recipients.items() if message == id and item.state not in FINAL]

    def _waiting(self, recipient: Recipient) -> Waiting:
        message = self.messages[recipient.message]
        return Waiting(
            *recipient[:3], recipient.connector, recipient.via, recipient.next_try or 0.0, message.reverse_path,
            message.arrived, message.expires, message.user or message.client, message.priority,
        )  # fmt: skip

    def queued(self, after: int, until: int, limit: int) -> list[Waiting]:
        return []  # all of it is offered

    def delayed(self, after: tuple[float, int, int], until: float, limit: int) -> list[Waiting]:
        result = [
            item
            for key, item in self.recipients.items()
            if item.state is State.DELAYED and item.next_try is not None and after < (item.next_try, *key)
        ]
        result.sort(key=lambda item: (item.next_try or 0.0, item.message, item.number))
        return [self._waiting(item) for item in result[:limit] if (item.next_try or 0.0) <= until]

    def waiting(self, ids: Sequence[int], until: float) -> list[Waiting]:
        return [self._waiting(recipient) for due in self.due(ids, until) for recipient in due.recipients]

    def due(self, ids: Sequence[int], until: float, octets: int = 0) -> list[Due]:
        result = []
        for id in ids:
            due = [
                item for item in self._open(id) if item.state is State.QUEUED or (item.next_try or math.inf) <= until
            ]
            if due:
                result.append(Due(self.messages[id], due))
        return result

    def next_due(self, now: float) -> float | None:
        waits = [
            recipient.next_try
            for recipient in self.recipients.values()
            if recipient.state is State.DELAYED and recipient.next_try
        ]
        return min((at for at in waits if at > now), default=None)


@dataclass
class Scene:
    """What a run is made of, and what came of it."""

    store: MemoryStore
    hosts: list[Host]
    lines: list[str]

    @property
    def relayed_after(self) -> list[float]:
        """How many seconds after the beginning each relayed recipient left."""
        store = self.store
        relayed = [key for key, item in store.recipients.items() if item.state is State.RELAYED]
        return [store.ended[key] - EPOCH - STARTED for key in relayed]

    @property
    def relayed(self) -> int:
        """How many recipients were."""
        return len(self.relayed_after)

    @property
    def seconds(self) -> float:
        """How long it took until the last one ended."""
        return max(self.store.ended.values()) - EPOCH - STARTED

    def check(self) -> None:
        """Promises 1 and 2, and no more attempts than the schedule has. Raises AssertionError."""
        taken: Counter[tuple[str, str]] = sum((host.taken for host in self.hosts), Counter())
        for (id, number), recipient in self.store.recipients.items():
            message = self.store.messages[id]
            copies = taken[message.message_id, recipient.address]
            where = f"<{recipient.address}> of {message.message_id}: {recipient.state.value}, {copies} copies"
            assert recipient.state in FINAL, f"{where}: it never ends"
            relayed = recipient.state is State.RELAYED
            assert copies or not relayed, f"{where}: recorded as relayed, but never taken ({recipient.reply})"
            said_no = any(host.refused & {recipient.address, f"<{message.reverse_path}>"} for host in self.hosts)
            early = self.store.ended[id, number] < message.expires
            assert said_no or not early or relayed, f"{where}: failed before its time, and nobody refused it"
            doubtful = self.store.uncertain[id, recipient.address]
            assert copies <= relayed + doubtful, f"{where}: {doubtful} uncertain attempts"
            attempts = self.store.attempts[id, number]
            assert attempts <= MOST_ATTEMPTS, f"{where}: {attempts} attempts"
        attempts_in_all = sum(self.store.attempts.values())
        sessions = sum(host.opened for host in self.hosts)
        assert not self.store.internal, self.store.internal
        most = LINES_EACH * (self.store.moves + sessions)
        assert len(self.lines) <= most, f"{len(self.lines)} lines of log for {attempts_in_all} attempts"
        # A session is paid for by an attempt on some next hop, by a message that it carried, or by trying one more.
        tries = 2 + (self.store.loop.now - STARTED) / RAISE_SECONDS
        paid = len(self.hosts) * 2 * (self.store.recorded + tries) + sum(taken.values())
        assert sessions <= paid, f"{sessions} sessions for {self.store.recorded} records"


def deliver(choices: Choices) -> Scene:
    """Some messages handed to a delivery with misbehaving next hops, until all of them have ended."""
    return run(lambda loop: _deliver(loop, choices))  # type: ignore[no-any-return]


async def _deliver(loop: VirtualLoop, choices: Choices) -> Scene:
    pick = choices.pick
    random.seed(pick(1 << 30))  # for the jitter of waits
    login = pick(6) == 0
    badness = (0, 5, 15, 15, 30, 60)[pick(6)]
    hosts = [_host(loop, choices, badness, login=login) for _ in range(1 + (pick(3) == 0))]
    names: dict[str, Host] = {}
    for number, host in enumerate(hosts):
        addresses = [f"192.0.2.{10 * number + place}" for place in range(1 + (pick(4) == 0))]
        loop.addresses[f"h{number}.example"] = addresses
        names |= dict.fromkeys(addresses, host)
    missing = pick(badness + 10) if badness else 0

    def answer(address: str, port: int) -> End:
        if missing > 9 and pick(100) < missing:
            raise TimeoutError if pick(3) == 0 else ConnectionRefusedError(errno.ECONNREFUSED, "refused")
        return names[address].answer(address, port)

    loop.answer = answer
    pauses = ((0.0,), (0.001,), (0.0, 0.01, 0.6))[pick(3)]
    takes = lambda: pauses[pick(len(pauses))]  # noqa: E731
    return await play(loop, loaded(len(hosts), 1 + pick(3), login), hosts, _messages(choices), takes)


def _host(loop: VirtualLoop, choices: Choices, badness: int, *, login: bool) -> Host:
    pick = choices.pick
    offered = pick(1 << len(EXTENSIONS)) | pick(2)  # PIPELINING more often than not
    extensions = tuple(item for place, item in enumerate(EXTENSIONS) if offered >> place & 1)
    sessions, messages = (99, 99, 1, 2)[pick(4)], (99, 99, 1, 3)[pick(4)]
    return Host(choices, loop, badness, extensions, login, sessions, messages)


def _messages(choices: Choices) -> list[list[str]]:
    return [[f"r{n}@m{number}.example" for n in range(1 + choices.pick(3))] for number in range(1 + choices.pick(4))]


async def play(
    loop: VirtualLoop,
    settings: Loaded,
    hosts: list[Host],
    messages: list[list[str]],
    takes: Callable[[], float] = lambda: 0.0,
) -> Scene:
    """Hand `messages` (each a list of recipients) in, and let time pass until all of them have ended, or should have."""
    tls.client_context.cache_clear()
    clock, store, lines = LoopClock(loop), MemoryStore(loop, takes), _Lines()
    log = Log(lines, lambda at, level, event, facts: f"{level} {event} {facts}", "info", clock.now)
    ids = IdMaker()
    dispatcher = Dispatcher(settings, store.submit, store, ids, clock, log)  # type: ignore[arg-type]
    dispatcher.start()
    for number, recipients in enumerate(messages):
        fresh = _fresh(ids.next(clock.now()), f"<m{number}@x.example>", recipients, clock.now(), dsn=number % 2 == 0)
        store.add(fresh)
        dispatcher.offer(fresh)
    until = loop.now + 4 * LIFETIME + 20 * 700.0  # the last attempt may meet a silent peer at several stages
    while loop.now < until and any(recipient.state not in FINAL for recipient in store.recipients.values()):
        await asyncio.sleep(50.0)
    await dispatcher.stop(1.0)
    return Scene(store, hosts, lines.lines)


def _fresh(id: int, message_id: str, recipients: list[str], at: float, *, dsn: bool) -> AddMessage:
    content = f"Message-ID: {message_id}\r\nSubject: x\r\n\r\n.dot\r\nhi\r\n".encode()
    sender, asked = (f"s{message_id[2:-11]}@x.example", "NOTIFY=NEVER") if dsn else ("", "")
    message = Message(
        id, at, at + LIFETIME, sender, len(content), False, False, message_id, "programs", "unix", "h", "", "ESMTP"
    )
    named = [
        Recipient(id, number, address, State.QUEUED, 0, at, "", "", at, asked)
        for number, address in enumerate(recipients, 1)
    ]
    return AddMessage(message, named, content)
