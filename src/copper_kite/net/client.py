"""The client's session on a socket: from a next hop to a session that is ready, and messages through it.

Each step has a bound in seconds (RFC 5321 4.5.3.2), counts as one stage, and fails as SessionFailed with that stage.
What is said goes into a dialogue; no secret does.
"""

from __future__ import annotations

import asyncio
import contextlib
import errno
import ssl
from collections.abc import AsyncIterator, Awaitable, Callable, Iterable, Iterator
from contextlib import asynccontextmanager
from dataclasses import dataclass, field

from copper_kite.errors import RemoteProtocolError, SessionFailed
from copper_kite.net import tls
from copper_kite.net.dialogue import Dialogue
from copper_kite.net.resolve import resolve
from copper_kite.smtp import client as smtp
from copper_kite.smtp.content import stuff
from copper_kite.smtp.extensions import Capabilities
from copper_kite.smtp.replies import Reply
from copper_kite.smtp.sasl import Secret
from copper_kite.smtp.transaction import Envelope, Result, Transaction
from copper_kite.words import Cause, Stage

__all__ = ["ClientSession", "Plan", "Timeouts", "open_session"]

BLOCK = 64 * 1024  # octets of content written at a time


@dataclass(frozen=True, slots=True, kw_only=True)
class Timeouts:
    """Bounds in seconds, by stage (RFC 5321 4.5.3.2); TCP and TLS have none there."""

    connect: float = 60.0
    secure: float = 60.0
    greet: float = 300.0
    command: float = 300.0
    data: float = 120.0
    block: float = 180.0
    accept: float = 600.0
    quit: float = 5.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Plan:
    """How to reach a next hop and what to demand of it. `tls`: implicit, starttls or off."""

    host: str
    port: int
    name: str  # what we call ourselves
    tls: str = "starttls"
    trust: str = "system"
    login: str = ""
    password: Secret = field(default_factory=lambda: Secret(""))
    timeouts: Timeouts = field(default_factory=Timeouts)


class _Wire(asyncio.Protocol):
    """Octets in and out, with one reader who waits and one bound that moves."""

    def __init__(self) -> None:
        self._loop = asyncio.get_running_loop()
        self._heard: list[bytes] = []
        self._waiter: asyncio.Future[None] | None = None
        self._timer: asyncio.TimerHandle | None = None
        self._deadline = 0.0
        self._writable = asyncio.Event()
        self._writable.set()
        self.lost: Exception | None = None
        self.timed_out = False

    def data_received(self, data: bytes) -> None:
        self._heard.append(data)
        self._wake()

    def eof_received(self) -> bool:
        self.lost = self.lost or ConnectionResetError("the peer closed the connection")
        self._wake()
        return False

    def connection_lost(self, error: Exception | None) -> None:
        self.lost = self.lost or error or ConnectionResetError("the peer closed the connection")
        if self._timer is not None:
            self._timer.cancel()
        self._writable.set()
        self._wake()

    def pause_writing(self) -> None:
        self._writable.clear()

    def resume_writing(self) -> None:
        self._writable.set()

    def _wake(self) -> None:
        if self._waiter is not None and not self._waiter.done():
            self._waiter.set_result(None)

    def bound(self, seconds: float) -> None:
        """What is awaited from now on must come within `seconds`. One timer serves the whole session."""
        self._deadline = self._loop.time() + seconds
        if self._timer is None or self._timer.when() > self._deadline:
            if self._timer is not None:
                self._timer.cancel()
            self._timer = self._loop.call_at(self._deadline, self._check)

    def _check(self) -> None:
        if self._loop.time() < self._deadline - 0.001:
            self._timer = self._loop.call_at(self._deadline, self._check)
            return
        self._timer = None
        self.timed_out = True
        self._writable.set()
        self._wake()

    @property
    def has_data(self) -> bool:
        """Whether something came in that nobody has read."""
        return bool(self._heard)

    async def read(self) -> bytes:
        """What came in; empty when the connection is gone or the time is up."""
        if not self._heard and self.lost is None and not self.timed_out:
            self._waiter = self._loop.create_future()
            try:
                await self._waiter
            finally:
                self._waiter = None
        data = b"".join(self._heard)
        self._heard.clear()
        return data

    async def drain(self) -> None:
        """Wait until the transport takes more."""
        if not self._writable.is_set():
            await self._writable.wait()


class ClientSession:
    """One open session with a next hop. `stages` holds (stage, seconds, what came back) of its opening."""

    def __init__(self, plan: Plan, wire: _Wire, transport: asyncio.Transport, address: str, dialogue: Dialogue) -> None:
        self._loop = asyncio.get_running_loop()
        self._plan = plan
        self._wire = wire
        self._transport = transport
        self._engine = smtp.Client()
        self.address = address
        self.dialogue = dialogue
        self.stages: list[tuple[Stage, float, str]] = []
        self.stage = Stage.GREET
        self.messages = 0
        self.tls_version = ""  # as in `TLSv1.3`
        self.cipher = ""

    @property
    def usable(self) -> bool:
        """Whether another message may go through it."""
        return (
            self._wire.lost is None
            and not self._wire.has_data
            and not self._transport.is_closing()
            and self._engine.phase is smtp.Phase.READY
            and self._engine.waiting is None
        )

    @property
    def capabilities(self) -> Capabilities:
        """What the next hop offers now."""
        return self._engine.capabilities

    # --- one command ------------------------------------------------------------------------------------------------

    def _now(self) -> float:
        return self._loop.time()

    def _failed(self, cause: Cause, text: str, reply: Reply | None = None) -> SessionFailed:
        self.dialogue.noted(self._now(), text)
        return SessionFailed(self.stage, cause, text, reply)

    async def _next_reply(self, seconds: float) -> smtp.Answered:
        """The next reply, within `seconds`. Raises SessionFailed: lost, timed out, protocol error, unasked 421."""
        self._wire.bound(seconds)
        while True:
            try:
                answered = self._engine.next_reply()
            except RemoteProtocolError as error:
                heard = f": {error.heard.decode('utf-8', 'replace').strip()}" if error.heard else ""
                raise self._failed(Cause.PROTOCOL, f"{error}{heard}") from error
            if answered is not None:
                self.dialogue.heard(self._now(), answered.reply)
                return answered
            data = await self._wire.read()
            if data:
                self._engine.receive_data(data)
            elif self._wire.timed_out:
                raise self._failed(Cause.TIMED_OUT, f"nothing heard for {seconds:g} s")
            else:
                raise self._failed(Cause.LOST, f"connection lost: {tls.describe(self._wire.lost or OSError())}")

    async def _ask(self, command: smtp.Command, seconds: float) -> Reply:
        self.dialogue.sent(self._now(), command.shown)
        self._transport.write(self._engine.send(command))
        return (await self._next_reply(seconds)).reply

    def _stage_done(self, began: float, said: object) -> None:
        self.stages.append((self.stage, self._now() - began, str(said)))

    # --- the opening ------------------------------------------------------------------------------------------------

    async def greet(self) -> None:
        """Wait for the greeting."""
        self.stage, began = Stage.GREET, self._now()
        reply = (await self._next_reply(self._plan.timeouts.greet)).reply
        self._stage_done(began, reply)
        if not reply.positive:
            raise self._failed(Cause.REPLY, f"greeted with {reply}", reply)

    async def hello(self) -> None:
        """EHLO, or HELO where EHLO is not known (RFC 5321 3.2)."""
        self.stage, began = Stage.HELLO, self._now()
        reply = await self._ask(smtp.ehlo(self._plan.name), self._plan.timeouts.command)
        if reply.code in (500, 502):
            reply = await self._ask(smtp.helo(self._plan.name), self._plan.timeouts.command)
        self._stage_done(began, reply)
        if not reply.positive:
            raise self._failed(Cause.REPLY, f"EHLO refused: {reply}", reply)

    async def secure(self) -> None:
        """STARTTLS, which is demanded: without it the session ends here, and nothing has been sent in clear."""
        self.stage, began = Stage.SECURE, self._now()
        if "STARTTLS" not in self._engine.capabilities:
            raise self._failed(Cause.TLS_NOT_OFFERED, "STARTTLS is not offered")
        reply = await self._ask(smtp.starttls(), self._plan.timeouts.command)
        if not reply.positive:
            raise self._failed(Cause.TLS_NOT_OFFERED, f"STARTTLS refused: {reply}", reply)
        if self._wire.has_data:  # said in clear behind the 220: not to be taken for a reply under TLS (RFC 3207 4.2)
            raise self._failed(Cause.PROTOCOL, "octets in clear before the TLS handshake")
        context = tls.client_context(self._plan.trust)
        with self._handshake_errors():
            secured = await self._loop.start_tls(
                self._transport,
                self._wire,
                context,
                server_hostname=self._plan.host,
                ssl_handshake_timeout=self._plan.timeouts.secure,
            )
            if secured is None:
                raise ConnectionResetError("the peer closed the connection")
            self._transport = secured
        try:
            self._engine.tls_established()
        except RemoteProtocolError as error:
            raise self._failed(Cause.PROTOCOL, str(error)) from error
        self._note_tls(began)
        await self.hello()

    @contextlib.contextmanager
    def _handshake_errors(self) -> Iterator[None]:
        try:
            yield
        except OSError as error:
            text = tls.describe(error)
            raise self._failed(tls.cause_of(error), text) from error

    def _note_tls(self, began: float) -> None:
        self._engine.secure = True
        self.stage = Stage.SECURE
        self.cipher, self.tls_version, _ = self._transport.get_extra_info("cipher")
        said = f"{self.tls_version} {self.cipher}"
        self.dialogue.noted(self._now(), f"TLS: {said}")
        self._stage_done(began, said)

    async def login(self) -> None:
        """AUTH PLAIN, never in clear."""
        self.stage, began = Stage.LOGIN, self._now()
        if not self._engine.secure:
            raise self._failed(Cause.TLS_NOT_OFFERED, "a login never goes in clear")
        if "PLAIN" not in self._engine.capabilities.logins:
            offered = ", ".join(self._engine.capabilities.logins) or "none"
            raise self._failed(Cause.LOGIN_NOT_OFFERED, f"PLAIN is not offered (offered: {offered})")
        reply = await self._ask(smtp.auth_plain(self._plan.login, self._plan.password), self._plan.timeouts.command)
        self._stage_done(began, reply)
        if not reply.positive:
            raise self._failed(Cause.REPLY, f"login refused: {reply}", reply)

    # --- messages ---------------------------------------------------------------------------------------------------

    async def relay(
        self,
        envelope: Envelope,
        content: Callable[[], Iterable[bytes]],
        before_content: Awaitable[None] | None = None,
    ) -> tuple[Result, ...]:
        """Hand one message over; each recipient's deciding reply, in the envelope's order.

        `content` gives the octets in portions, whole lines at the end; `before_content` is awaited before any of them
        goes. Raises SessionFailed when the session breaks, with what was decided until then in `facts["results"]`.
        """
        self.messages += 1
        transaction = Transaction(self._engine, envelope)
        self.stage = Stage.SENDER
        try:
            self._note_group(transaction, transaction.start())
            timeouts = self._plan.timeouts
            while not transaction.finished:
                if transaction.wants_content:
                    transaction.wants_content = False
                    self.stage = Stage.CONTENT
                    if before_content is not None:
                        await before_content
                    await self._send_content(() if transaction.empty else content(), envelope.size)
                    self.stage = Stage.ACCEPT
                answered = await self._next_reply(self._reply_bound(timeouts))
                self._note_group(transaction, transaction.take(answered))
                self.stage = transaction.stage
                if answered.reply.code == 421 and not transaction.finished:
                    raise self._failed(Cause.REPLY, f"session closed: {answered.reply}", answered.reply)
        except SessionFailed as failure:
            failure.facts["results"] = transaction.results
            raise
        return transaction.results

    def _reply_bound(self, timeouts: Timeouts) -> float:
        waiting = self._engine.waiting
        if waiting is None or waiting.verb is not smtp.Verb.END:
            return timeouts.data if waiting is not None and waiting.verb is smtp.Verb.DATA else timeouts.command
        return timeouts.accept

    def _note_group(self, transaction: Transaction, wire: bytes) -> None:
        """Send a group of commands, and keep them in the dialogue: none of a transaction's commands is secret."""
        if wire:
            self.dialogue.sent(self._now(), wire)
            self._transport.write(wire)

    async def _send_content(self, portions: Iterable[bytes], size: int) -> None:
        began, line_start, wire = self._now(), True, b""
        for portion in portions:
            for block in _blocks(portion):
                wire += stuff(block, line_start=line_start)
                line_start = block.endswith(b"\n")
                if len(wire) >= BLOCK:
                    await self._write(wire)
                    wire = b""
        self._transport.write(wire + self._engine.send(smtp.END_OF_CONTENT))
        self.dialogue.noted(self._now(), f"content sent, {size} octets in {self._now() - began:.3f} s")

    async def _write(self, wire: bytes) -> None:
        self._wire.bound(self._plan.timeouts.block)
        self._transport.write(wire)
        await self._wire.drain()
        if self._wire.timed_out:
            raise self._failed(Cause.TIMED_OUT, "the next hop does not take the content")
        if self._wire.lost is not None:
            raise self._failed(Cause.LOST, f"connection lost: {tls.describe(self._wire.lost)}")

    async def close(self) -> None:
        """QUIT, with a bounded wait that changes nothing (RFC 5321 4.1.1.10)."""
        self.stage = Stage.QUIT
        try:
            if self._wire.lost is None and self._engine.may_send(smtp.Verb.QUIT):
                await self._ask(smtp.quit_session(), self._plan.timeouts.quit)
        except SessionFailed:
            pass
        finally:
            self.abort()

    def abort(self) -> None:
        """Drop the connection."""
        self._transport.abort()


def _blocks(portion: bytes) -> Iterator[bytes]:
    """`portion` in blocks that never end between a CR and its LF."""
    start = 0
    while start < len(portion):
        end = start + BLOCK
        if portion[end - 1 : end] == b"\r":
            end += 1
        yield portion[start:end]
        start = end


_CONNECT_CAUSES = {
    errno.ECONNREFUSED: Cause.CONNECTION_REFUSED,
    errno.ENETUNREACH: Cause.UNREACHABLE,
    errno.EHOSTUNREACH: Cause.UNREACHABLE,
    errno.ETIMEDOUT: Cause.CONNECTION_TIMED_OUT,
}


async def open_session(plan: Plan, dialogue: Dialogue) -> ClientSession:
    """A session with the next hop of `plan`, up to and with the login. Raises SessionFailed; nothing stays open then.

    Addresses are tried in the resolver's order until one takes the connection.
    """
    loop = asyncio.get_running_loop()
    began = loop.time()
    addresses = await resolve(plan.host, plan.port)
    dialogue.noted(loop.time(), f"{plan.host} is {', '.join(addresses)}")
    stages = [(Stage.RESOLVE, loop.time() - began, ", ".join(addresses))]
    began = loop.time()
    failure: SessionFailed | None = None
    for address in addresses:
        try:
            wire, transport = await _connect(plan, address)
        except SessionFailed as error:
            dialogue.noted(loop.time(), f"{address}: {error.text}")
            failure = error
            continue
        dialogue.noted(loop.time(), f"connected to {address} port {plan.port}")
        session = ClientSession(plan, wire, transport, address, dialogue)
        session.stages = [*stages, (Stage.CONNECT, loop.time() - began, address)]
        async with _closing_on_failure(session):
            await _open(plan, session)
        return session
    assert failure is not None
    raise failure


async def _connect(plan: Plan, address: str) -> tuple[_Wire, asyncio.Transport]:
    loop = asyncio.get_running_loop()
    implicit = plan.tls == "implicit"
    try:
        async with asyncio.timeout(plan.timeouts.connect):
            transport, wire = await loop.create_connection(
                _Wire,
                address,
                plan.port,
                ssl=tls.client_context(plan.trust) if implicit else None,
                server_hostname=plan.host if implicit else None,
                ssl_handshake_timeout=plan.timeouts.secure if implicit else None,
            )
    except TimeoutError as error:
        raise SessionFailed(
            Stage.CONNECT, Cause.CONNECTION_TIMED_OUT, f"no answer in {plan.timeouts.connect:g} s", address=address
        ) from error
    except ssl.SSLError as error:
        raise SessionFailed(Stage.SECURE, tls.cause_of(error), tls.describe(error), address=address) from error
    except OSError as error:
        stage = Stage.CONNECT if error.errno in _CONNECT_CAUSES or not implicit else Stage.SECURE
        cause = _CONNECT_CAUSES.get(error.errno or 0, Cause.LOST)
        raise SessionFailed(stage, cause, (error.strerror or str(error)).lower(), address=address) from error
    return wire, transport


async def _open(plan: Plan, session: ClientSession) -> None:
    if plan.tls == "implicit":
        session._note_tls(asyncio.get_running_loop().time())
    await session.greet()
    await session.hello()
    if plan.tls == "starttls":
        await session.secure()
    if plan.login:
        await session.login()


@asynccontextmanager
async def _closing_on_failure(session: ClientSession) -> AsyncIterator[None]:
    try:
        yield
    except SessionFailed as failure:
        failure.facts["address"] = session.address
        failure.facts["stages"] = session.stages
        session.abort()
        raise
    except BaseException:
        session.abort()
        raise
