"""Clients that misbehave by chance, against the real listener: engine, session, intake. What must hold at the end."""

from __future__ import annotations

import asyncio
import re
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

from copper_kite.net.server import ServerSession
from copper_kite.net.session_registry import SessionRegistry
from copper_kite.relay.gate import Gate
from copper_kite.relay.intake import Intake
from copper_kite.relay.log import Log
from copper_kite.relay.refusals import Refusals
from copper_kite.relay.submission import Submission
from copper_kite.relay.usage import Usage
from copper_kite.settings.load import load_source
from copper_kite.smtp.extensions import Offers
from copper_kite.smtp.limits import Limits
from copper_kite.store import (
    AddContent,
    AddMessage,
    Done,
    DropContent,
    IdMaker,
    Message,
    Recipient,
    Transaction,
    id_text,
)
from tests.configuration import connector, site_text
from tests.hostile.delivery import LoopClock
from tests.hostile.virtual import Choices, Link, VirtualLoop, run

__all__ = ["Caller", "hand_in"]

BOUNDS = {"max_size": 600_000, "max_header": 20_000, "max_recipients": 100}
CONFIG = site_text(
    connector("beacon", "localhost", tls="off"),
    bind="127.0.0.1:25",
    listener={**BOUNDS, "allow": ["192.0.2.0/24"]},
)
LONG = b"x" * 1200
LINES = b"line of text\r\n" * 30_000  # 420 kB: more than one portion
WORDS = (
    b"EHLO a.example\r\n", b"HELO b\r\n", b"MAIL FROM:<s@x.example>\r\n", b"RCPT TO:<r@y.example>\r\n",
    b"RCPT TO:<root>\r\n", b"DATA\r\n", b"Subject: hi\r\n\r\nbody\r\n.\r\n", b".\r\n", b"RSET\r\n", b"NOOP\r\n",
    b"QUIT\r\n", b"BDAT 7 LAST\r\nA: b\r\n\r", b"BDAT 3\r\nabc", b"BDAT 99999999\r\n", b"VRFY x\r\n", b"AUTH PLAIN\r\n",
    b"STARTTLS\r\n", b"MAIL FROM:<> SIZE=99 BODY=8BITMIME\r\n", b"RCPT TO:<a@b\r\n", b"\r\n.\r\n", b"\n.\n", b"\r", b"\n",
    b"\0", b"\xff\xfe", LONG, LONG + b"\r\n", LINES + b".\r\n", b"X: " + b"y" * 900 + b"\r\n", b"mail from:<s@x.example> size=3\r\n",
    b"RCPT TO:<\xc3\xa5@y.example>\r\n", b"RCPT TO:<r@y.example> NOTIFY=NEVER,DELAY\r\n", b"GET / HTTP/1.1\r\n",
)  # fmt: skip
WHOLE = b"MAIL FROM:<s@x.example>\r\nRCPT TO:<r@y.example>\r\nDATA\r\nSubject: hi\r\n\r\nbody\r\n.\r\n"
REPLY = re.compile(rb"(?:[2345]\d\d-[ -~]*\r\n)*[2345]\d\d(?: [ -~]*)?\r\n")
KEPT = re.compile(rb"(?m)^250 2\.0\.0 kept as ([0-9A-Z]{10})\r\n")


@dataclass
class Kept:
    """The store, as the listener needs it; each change counts as stable `takes` seconds later."""

    loop: VirtualLoop
    takes: Callable[[], float]
    messages: dict[str, tuple[Message, list[Recipient]]] = field(default_factory=dict)
    portions: dict[int, list[bytes]] = field(default_factory=dict)
    octets: int = 0

    def submit(self, change: Transaction, done: Done) -> None:
        self.loop.call_later(self.takes(), self._write, change, done)

    def _write(self, change: Transaction, done: Done) -> None:
        for operation in change:
            if isinstance(operation, AddMessage):
                self._keep(operation.message, list(operation.recipients))
                if operation.content is not None:
                    self.portions[operation.message.id] = [operation.content]
            elif isinstance(operation, AddContent):
                id, number, octets = operation
                assert number == len(self.portions.setdefault(id, [])), "a portion is missing"
                self.portions[id].append(octets)
            elif isinstance(operation, DropContent):
                assert id_text(operation.message) not in self.messages, "a message that was answered was dropped"
                self.portions.pop(operation.message, None)
        done(None)

    def _keep(self, message: Message, recipients: list[Recipient]) -> None:
        assert id_text(message.id) not in self.messages and recipients
        self.messages[id_text(message.id)] = message, recipients


class Caller:
    """One hostile client: what it says, in which portions, and how it goes."""

    def __init__(self, loop: VirtualLoop, choices: Choices) -> None:
        self._loop, self._pick = loop, choices.pick
        self.replies = b""
        self.link: Link

    def connected(self) -> None:
        """The server speaks first."""

    def gone(self) -> None:
        """The server closed."""

    def heard(self, data: bytes) -> None:
        self.replies += data

    async def talk(self) -> None:
        pick = self._pick
        said = b"EHLO a.example\r\n" if pick(5) else b""
        for _ in range(1 + pick(14)):
            said += WHOLE if pick(6) == 0 else WORDS[pick(len(WORDS))]
        size = (len(said), len(said), 1, 7, 1460, 65_536)[pick(6)]
        if size < 100:
            said = said[-4000:] if len(said) > 4000 else said
        for start in range(0, len(said), size):
            self.link.say(said[start : start + size])
            if pick(4) == 0:
                await asyncio.sleep((0.0, 0.001, 0.3)[pick(3)])
        ending = pick(5)
        if ending == 0:
            self.link.shut(reset=True)
        elif ending == 1:
            self.link.shut()
        elif ending == 2:
            self.link.say(b"QUIT\r\n")
        await asyncio.sleep(1.0 if ending < 3 else 900.0)
        self.link.shut()
        await asyncio.sleep(30.0)


LOADED = load_source(Path("kite.toml"), CONFIG, secrets=False)


class _Room:
    reserved = 0

    def refusal(self, size: int | None) -> None:
        return None


class _NoLines:
    def write(self, line: str) -> None:
        """Nobody reads it."""

    def close(self) -> None:
        """Nothing is open."""


class _NoRecordings:
    """Nobody wants any."""

    def wants(self, table: str, name: str) -> bool:
        return False


def _raise(error: Exception, **facts: object) -> str:
    raise error


def hand_in(choices: Choices) -> tuple[Kept, list[Caller]]:
    """Some clients at once, until all are gone. Raises AssertionError for what must not be."""
    return run(lambda loop: _hand_in(loop, choices))  # type: ignore[no-any-return]


async def _hand_in(loop: VirtualLoop, choices: Choices) -> tuple[Kept, list[Caller]]:
    pauses = ((0.0,), (0.0, 0.01, 2.0))[choices.pick(2)]
    kept = Kept(loop, lambda: pauses[choices.pick(len(pauses))])
    clock = LoopClock(loop)
    gate = Gate(Usage(lambda who, since: []), clock.now, lambda who, text: None)
    log = Log(_NoLines(), lambda at, level, event, facts: "", "info", clock.now)
    submission = Submission(
        LOADED, LOADED.settings.listener[0], IdMaker(), clock, kept.submit, lambda fresh: None, gate,
        _Room(), Refusals(lambda change: None, clock.now, lambda refusal, count: None), _NoRecordings(), log, _raise,  # type: ignore[arg-type]
    )  # fmt: skip
    registry = SessionRegistry()
    callers = [_connect(loop, choices, submission, registry) for _ in range(1 + choices.pick(3))]
    await asyncio.gather(*(caller.talk() for caller in callers))
    await registry.stop(5.0)
    _check(kept, callers, registry)
    return kept, callers


def _connect(loop: VirtualLoop, choices: Choices, submission: Submission, registry: SessionRegistry) -> Caller:
    listener = submission.listener
    session = ServerSession(
        "quay1.ternferries.example",
        Offers(max_size=listener.max_size),
        Intake(submission),
        registry,
        limits=Limits(recipients=listener.max_recipients, patience=listener.patience),
    )
    caller = Caller(loop, choices)
    caller.link = Link(loop, session, caller)
    session.connection_made(caller.link)
    return caller


def _check(kept: Kept, callers: list[Caller], registry: SessionRegistry) -> None:
    answered = [id for caller in callers for id in KEPT.findall(caller.replies)]
    assert len(set(answered)) == len(answered), "two messages with one id"
    for id in answered:
        message, recipients = kept.messages[id.decode()]
        content = b"".join(kept.portions[message.id])
        assert len(content) == message.size and content.startswith(b"Received: ")
        assert all(recipient.address in ("r@y.example", "root@ternferries.example") for recipient in recipients)
        assert b"\0" not in content and not re.search(rb"(?<!\r)\n|\r(?!\n)", content)
        assert max(map(len, content.split(b"\r\n"))) <= 998
    for caller in callers:
        assert REPLY.sub(b"", caller.replies) == b"", caller.replies[-300:]
    known = {message.id for message, _ in kept.messages.values()}
    assert set(kept.portions) <= known, "content without a message is left behind"
    assert len(registry) == 0, "a session is left behind"
