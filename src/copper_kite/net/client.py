"""The client's session on a socket: from a next hop to a session that is ready, and messages through it.

Each step has a bound in seconds (RFC 5321 4.5.3.2), counts as one stage, and fails as SessionFailed with that stage.
What is said goes into a dialogue; no secret does.
"""

from __future__ import annotations

import asyncio
import contextlib
import secrets
import ssl
from collections.abc import Awaitable, Callable, Iterable, Iterator
from typing import Any

from copper_kite.errors import LocalProtocolError, RemoteProtocolError, SessionFailed
from copper_kite.net import tls
from copper_kite.net.dialogue import Dialogue
from copper_kite.net.plan import Plan
from copper_kite.net.secret import SecretUnavailable, fetch
from copper_kite.net.secured import secure_client
from copper_kite.net.wire import Wire
from copper_kite.smtp import client as smtp
from copper_kite.smtp.content import stuff
from copper_kite.smtp.extensions import Capabilities
from copper_kite.smtp.grammar import Syntax
from copper_kite.smtp.mechanisms import Means, Mechanism, choose, pick
from copper_kite.smtp.replies import Reply
from copper_kite.smtp.sasl import decode_base64
from copper_kite.smtp.transaction import Envelope, Result, Transaction
from copper_kite.words import Cause, Stage

__all__ = ["ClientSession", "start_of"]

MAX_CHALLENGES = 8  # of one login; no mechanism has more than three
BLOCK = 64 * 1024  # octets of content written at a time

_END, _DATA, _BDAT = smtp.Verb.END, smtp.Verb.DATA, smtp.Verb.BDAT


class ClientSession:
    """One open session with a next hop.

    `stages` holds (stage, seconds, what came back) of its opening; `tried` the addresses that failed, each with why;
    `in_clear` is what was offered before TLS; `chain` the certificates shown, in DER, the next hop's own first.
    `earlier` are sessions of TLS to go on with.
    """

    def __init__(
        self,
        plan: Plan,
        wire: Wire,
        transport: asyncio.Transport,
        address: str,
        dialogue: Dialogue,
        earlier: tls.Sessions | None = None,
    ) -> None:
        self._loop = asyncio.get_running_loop()
        self._plan = plan
        self._wire = wire
        self._transport = transport
        self._earlier = earlier
        self._engine = smtp.Client()
        self.address = address
        self.where = plan.where
        self.dialogue = dialogue
        self.stages: list[tuple[Stage, float, str]] = []
        self.tried: list[tuple[str, str]] = []
        self.in_clear: Capabilities | None = None
        self.chain: list[bytes] = []
        self.stage = Stage.GREET
        self.messages = 0
        self._begun: Transaction | None = None  # the next message's, when its first commands have gone
        self._group = b""
        self.mechanism = ""
        self.tls_version = ""  # as in `TLSv1.3`
        self.cipher = ""
        self.resumed = False  # whether TLS went on with an earlier session

    @property
    def usable(self) -> bool:
        """Whether another message may go through it."""
        if self._wire.lost is not None or self._transport.is_closing():
            return False
        if self._begun is not None:
            return True
        return not self._wire.has_data and self._engine.phase is smtp.Phase.READY and self._engine.waiting is None

    @property
    def capabilities(self) -> Capabilities:
        """What the next hop offers now."""
        return self._engine.capabilities

    @property
    def verified(self) -> bool:
        """Whether TLS is on, and it is known with whom."""
        return self._engine.secure and self._plan.trust not in (tls.LOOK, tls.UNVERIFIED)

    @property
    def spent(self) -> bool:
        """Whether it has carried as many messages as the next hop takes in a session (RFC 9422 4)."""
        most = self._engine.capabilities.most_messages
        return most is not None and self.messages >= most

    @property
    def plan(self) -> Plan:
        """By which it was opened."""
        return self._plan

    def facts(self) -> dict[str, Any]:
        """How far it got and what it saw, for whoever tells of it."""
        return {
            "address": self.address,
            "next_hop": self.where,
            "stages": self.stages,
            "tried": self.tried,
            "tls": f"{self.tls_version} {self.cipher}" if self.tls_version else "",
            "in_clear": None if self.in_clear is None else self.in_clear.keywords,
            "keywords": self.capabilities.keywords,
            "chain": self.chain,
        }

    # --- one command ------------------------------------------------------------------------------------------------

    def _now(self) -> float:
        return self._loop.time()

    def _failed(self, cause: Cause, text: str, reply: Reply | None = None) -> SessionFailed:
        self.dialogue.noted(self._now(), text)
        return SessionFailed(self.stage, cause, text, reply)

    async def _next_reply(self, seconds: float) -> smtp.Answered:
        """The next reply, within `seconds`. Raises SessionFailed: lost, timed out, protocol error, unasked 421."""
        if (answered := self._at_hand()) is not None:
            return answered
        self._wire.bound(seconds)
        while True:
            data = await self._wire.read()
            if data:
                self._engine.receive_data(data)
            elif self._wire.timed_out:
                if begun := self._engine.begun:
                    text = f"a reply was begun and not ended in {seconds:g} s: {start_of(begun)}"
                    raise self._failed(Cause.UNFINISHED, text)
                raise self._failed(Cause.TIMED_OUT, f"nothing heard for {seconds:g} s")
            else:
                raise self._lost()
            if (answered := self._at_hand()) is not None:
                return answered

    def _at_hand(self, transaction: Transaction | None = None) -> smtp.Answered | None:
        """The next reply, if it has come in. Raises SessionFailed for what is none, at the stage of `transaction`."""
        try:
            answered = self._engine.next_reply()
        except RemoteProtocolError as error:
            if transaction is not None:
                self.stage = transaction.awaited
            heard = f": {start_of(error.heard)}" if error.heard else ""
            raise self._failed(Cause.PROTOCOL, f"{error}{heard}") from error
        if answered is not None:
            self.dialogue.heard(self._loop.time(), answered.reply)
        return answered

    def _lost(self) -> SessionFailed:
        """The connection is gone: by an alert of TLS that says more, or without a word."""
        error = self._wire.lost or OSError()
        cause = tls.cause_of(error)
        if isinstance(error, ssl.SSLError) and cause is not Cause.TLS_FAILED:
            self.stage = Stage.SECURE  # with TLS 1.3 the next hop's verdict on the handshake comes after it
            return self._failed(cause, tls.describe(error))
        begun = f", in the middle of a reply: {start_of(self._engine.begun)}" if self._engine.begun else ""
        return self._failed(Cause.LOST, f"connection lost: {tls.describe(error)}{begun}")

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
        if not reply.positive:
            raise self._failed(Cause.REPLY, f"greeted with {reply}", reply)
        self._stage_done(began, reply)

    async def hello(self) -> None:
        """EHLO, or HELO where EHLO is not known (RFC 5321 3.2)."""
        self.stage, began = Stage.HELLO, self._now()
        reply = await self._ask(smtp.ehlo(self._plan.name), self._plan.timeouts.command)
        if reply.code in (500, 502):
            reply = await self._ask(smtp.helo(self._plan.name), self._plan.timeouts.command)
        if not reply.positive:
            raise self._failed(Cause.REPLY, f"EHLO refused: {reply}", reply)
        self._stage_done(began, f"{reply.code} {reply.lines[0]}")
        if not self._engine.secure:
            self.in_clear = self._engine.capabilities
        elif self._earlier is not None:  # what the server gives for another time has come by now
            self._earlier.keep(self._plan, self._transport.get_extra_info("ssl_object"), self.chain)

    async def secure(self) -> None:
        """STARTTLS, which is demanded: without it the session ends here, and nothing has been sent in clear."""
        self.stage = Stage.SECURE
        if "STARTTLS" not in self._engine.capabilities:
            raise self._failed(Cause.TLS_NOT_OFFERED, "STARTTLS is not offered")
        reply = await self._ask(smtp.starttls(), self._plan.timeouts.command)
        if not reply.positive:
            raise self._failed(Cause.TLS_REFUSED, f"STARTTLS refused: {reply}", reply)
        await self.secure_behind_command()
        await self.hello()

    async def secure_behind_command(self) -> None:
        """TLS behind the positive reply to STARTTLS; EHLO is to follow (RFC 3207 4.2). Raises SessionFailed."""
        self.stage, began = Stage.SECURE, self._now()
        await self._handshake()
        try:
            self._engine.tls_established()
        except RemoteProtocolError as error:
            raise self._failed(Cause.PROTOCOL, str(error)) from error
        self._secured(began)

    async def secure_at_once(self) -> None:
        """TLS before anything is said (RFC 8314 3.3)."""
        self.stage, began = Stage.SECURE, self._now()
        await self._handshake()
        self._engine.secure = True
        self._secured(began)

    async def _handshake(self) -> None:
        """The TLS handshake on this connection. Raises SessionFailed."""
        if self._wire.has_data:  # said in clear: not to be taken for a reply under TLS (RFC 3207 4.2)
            if self._plan.tls == "implicit":
                raise self._failed(Cause.SPEAKS_CLEAR, "the port does not speak TLS at once")
            raise self._failed(Cause.PROTOCOL, "octets in clear before the TLS handshake")
        try:
            context = tls.client_context(self._plan.trust, self._plan.certificate, self._plan.key, self._plan.ciphers)
        except OSError as error:  # of ssl, too: not a file of certificates
            raise self._failed(Cause.TRUST_UNUSABLE, f"{self._plan.trust}: {tls.describe(error)}") from error
        earlier = None if self._earlier is None else self._earlier.take(self._plan, context)
        with self._handshake_errors():
            self._transport = await secure_client(
                self._transport,
                self._wire,
                context,
                self._plan.host,
                self._plan.timeouts.secure,
                None if earlier is None else earlier.session,
            )
        self.resumed = earlier is not None and bool(self._transport.get_extra_info("ssl_object").session_reused)
        self.chain = earlier.chain if earlier is not None and self.resumed else tls.peer_chain(self._transport)
        if not tls.is_pinned(self._plan.trust, self.chain):
            shown = tls.fingerprint(self.chain[0]) if self.chain else "none"
            raise self._failed(Cause.CERTIFICATE_NOT_PINNED, f"its certificate is {shown}, which is not pinned")

    @contextlib.contextmanager
    def _handshake_errors(self) -> Iterator[None]:
        try:
            yield
        except ConnectionAbortedError as error:
            text = f"the handshake was not over in {self._plan.timeouts.secure:g} s"
            raise self._failed(Cause.TIMED_OUT, text) from error
        except OSError as error:
            raise self._failed(tls.cause_of(error), tls.describe(error)) from error

    def _secured(self, began: float) -> None:
        """TLS is on, begun at `began` (loop time in seconds): the stage is done."""
        self.cipher, self.tls_version, _ = self._transport.get_extra_info("cipher")
        said = f"{self.tls_version} {self.cipher}" + (", resumed" if self.resumed else "")
        self.dialogue.noted(self._now(), f"TLS: {said}")
        self._stage_done(began, said)

    async def login(self, plan: Plan | None = None) -> None:
        """Log in as our plan, or another one, has it: by the strongest mechanism there is, under verified TLS.

        Only where the plan says so in so many words, without. Raises SessionFailed.
        """
        plan = plan or self._plan
        self.stage, began = Stage.LOGIN, self._now()
        if not self.verified and not plan.login_in_clear:
            raise self._failed(Cause.LOGIN_IN_CLEAR, "a login goes only under verified TLS")
        try:
            password = await fetch(plan.password, plan.password_command)
            token = await fetch(plan.token, plan.token_command)
        except SecretUnavailable as error:
            raise self._failed(Cause.SECRET_UNAVAILABLE, str(error)) from error
        offered, allowed = self._engine.capabilities.logins, plan.mechanisms
        bound = None
        if self.chain and any(name.endswith("-PLUS") for name in offered):
            bound = tls.end_point_binding(self.chain[0])
        means = Means(plan.login, password, token, plan.host, plan.port, secrets.token_urlsafe(18), bound)
        chosen = choose(offered, allowed, means)
        if chosen is None:
            could = ", ".join(pick(allowed, means)) or "none of these with what the credential holds"
            text = f"no common mechanism (offered: {', '.join(offered) or 'none'}; allowed: {could})"
            raise self._failed(Cause.LOGIN_NOT_OFFERED, text)
        self.mechanism, mechanism = chosen
        reply = await self._converse_login(mechanism)
        if not reply.positive:
            raise self._failed(Cause.REPLY, f"login refused: {reply}", reply)
        if not mechanism.proven:
            raise self._failed(
                Cause.LOGIN_UNPROVEN, "the server took the login without proving that it knows the password"
            )
        self._stage_done(began, f"{reply} ({self.mechanism})")

    async def _converse_login(self, mechanism: Mechanism) -> Reply:
        """AUTH, and answers until the server has decided (RFC 4954 4)."""
        bound = self._plan.timeouts.command
        command, _ = smtp.auth(self.mechanism, mechanism.first())
        reply = await self._ask(command, bound)
        for _ in range(MAX_CHALLENGES):
            if reply.code != 334:
                return reply
            try:
                answer = smtp.answer(mechanism.next(decode_base64(reply.lines[0].encode())))
            except (RemoteProtocolError, Syntax) as error:
                await self._ask(smtp.GIVE_UP, bound)
                raise self._failed(Cause.LOGIN_UNPROVEN, f"login given up: {error}") from error
            reply = await self._ask(answer, bound)
        raise self._failed(Cause.PROTOCOL, "challenges without end")

    async def step(self, stage: Stage, command: smtp.Command) -> None:
        """One command as a stage of its own. Raises SessionFailed when it is refused."""
        self._demand_trust()
        self.stage, began = stage, self._now()
        bound = self._plan.timeouts.data if command.verb is _DATA else self._plan.timeouts.command
        self._stage_taken(began, await self._ask(command, bound))

    def _demand_trust(self) -> None:
        """A session that was opened only to look at a certificate carries no message."""
        if self._plan.trust == tls.LOOK:
            raise LocalProtocolError("a message under a trust that believes anybody")

    async def step_content(self, content: bytes) -> None:
        """The content and its end, as a stage of its own. Raises SessionFailed when it is refused."""
        self.stage, began = Stage.ACCEPT, self._now()
        await self._send_content((content,), len(content), lambda: None)
        self._stage_taken(began, (await self._next_reply(self._plan.timeouts.accept)).reply)

    def _stage_taken(self, began: float, reply: Reply) -> None:
        if not reply.positive:
            raise self._failed(Cause.REPLY, str(reply), reply)
        self._stage_done(began, reply)

    # --- messages ---------------------------------------------------------------------------------------------------

    async def relay(
        self,
        envelope: Envelope,
        content: Callable[[], Iterable[bytes]],
        before_content: Awaitable[None] | None = None,
        following: Callable[[], Envelope | None] = lambda: None,
    ) -> tuple[Result, ...]:
        """Hand one message over; each recipient's deciding reply, in the envelope's order.

        `content` gives the octets in portions, whole lines at the end; `before_content` is awaited before any of them
        goes. With PIPELINING, the commands of the envelope that `following` gives go out together with the end of the
        content (RFC 2920 3.1); that envelope must then be the next one handed to `relay`. Raises SessionFailed when
        the session breaks, with what was decided until then in `facts["results"]`.
        """
        self._demand_trust()
        self.messages += 1
        self.stage = Stage.SENDER
        begun, self._begun = self._begun, None
        transaction = begun or Transaction(self._engine, envelope)
        try:
            self._send_group(self._group if begun else transaction.start())
            if begun and (usual := self._engine.usual_replies()):
                self.dialogue.heard_all(self._loop.time(), usual)
                transaction.take_usual()
            while not transaction.finished:
                if transaction.wants_content:
                    transaction.wants_content = False
                    self.stage = Stage.CONTENT
                    if before_content is not None:
                        await before_content
                    portions = () if transaction.empty else content()
                    await self._send_content(portions, envelope.size, following, transaction.chunk)
                answered = self._at_hand(transaction)
                if answered is None:
                    self.stage = transaction.awaited
                    answered = await self._next_reply(self._reply_bound())
                if wire := transaction.take(answered):
                    self._send_group(wire)
                if answered.reply.code == 421 and not transaction.finished:
                    self.stage = transaction.stage
                    raise self._failed(Cause.REPLY, f"session closed: {answered.reply}", answered.reply)
        except SessionFailed as failure:
            failure.facts["results"] = transaction.results
            failure.facts["untried"] = begun is not None and transaction.untouched
            raise
        return transaction.results

    def _begin_following(self, following: Callable[[], Envelope | None]) -> bytes:
        """The first commands of the next message, if there is one and they may go before the reply to this one."""
        if "PIPELINING" not in self._engine.capabilities or (envelope := following()) is None:
            return b""
        self._begun = Transaction(self._engine, envelope)
        self._group = self._begun.start()
        return self._group

    def _reply_bound(self) -> float:
        timeouts, waiting = self._plan.timeouts, self._engine.waiting
        verb = waiting.verb if waiting is not None else None
        if verb is _END or verb is _BDAT:
            return timeouts.accept
        return timeouts.data if verb is _DATA else timeouts.command

    def _send_group(self, wire: bytes) -> None:
        """Send a group of commands unless it went already, and keep it in the dialogue: none of these is secret."""
        if not wire:
            return
        self.dialogue.sent(self._now(), wire)
        if wire is self._group:
            self._group = b""
        else:
            self._transport.write(wire)

    async def _send_content(
        self,
        portions: Iterable[bytes],
        size: int,
        following: Callable[[], Envelope | None],
        chunk: smtp.Command | None = None,
    ) -> None:
        if chunk is not None:
            await self._send_chunk(chunk, portions, size, following)
            return
        began, line_start, wire = self._loop.time(), True, b""
        for portion in portions:
            for block in (portion,) if len(portion) <= BLOCK else _blocks(portion):
                wire += stuff(block, line_start=line_start)
                line_start = block.endswith(b"\n")
                if len(wire) >= BLOCK:
                    await self._write(wire)
                    wire = b""
        self._transport.write(
            b"".join((wire, self._engine.send(smtp.END_OF_CONTENT), self._begin_following(following)))
        )
        self._content_sent(began, size)

    async def _send_chunk(
        self, chunk: smtp.Command, portions: Iterable[bytes], size: int, following: Callable[[], Envelope | None]
    ) -> None:
        """The content as one chunk, its octets as they are (RFC 3030 2)."""
        began, wire = self._now(), self._engine.send(chunk)
        self.dialogue.sent(began, chunk.shown)
        for portion in portions:
            if len(wire) >= BLOCK:
                await self._write(wire)
                wire = b""
            wire += portion
        self._transport.write(wire + self._begin_following(following))
        self._content_sent(began, size)

    def _content_sent(self, began: float, size: int) -> None:
        now = self._loop.time()
        self.dialogue.noted(now, "content sent, %d octets in %.3f s", size, now - began)

    async def _write(self, wire: bytes) -> None:
        self._wire.bound(self._plan.timeouts.block)
        self._transport.write(wire)
        await self._wire.drain()
        if self._wire.timed_out:
            raise self._failed(Cause.TIMED_OUT, "the next hop does not take the content")
        if self._wire.lost is not None:
            raise self._lost()

    async def close(self) -> None:
        """QUIT, with a bounded wait that changes nothing (RFC 5321 4.1.1.10), and the end of TLS (RFC 8446 6.1)."""
        self.stage, began = Stage.QUIT, self._now()
        try:
            if self._wire.lost is None and self._engine.may_send(smtp.Verb.QUIT):
                self._stage_done(began, await self._ask(smtp.quit_session(), self._plan.timeouts.quit))
                self._transport.close()
        except SessionFailed:
            pass
        finally:
            self.abort()

    def abort(self) -> None:
        """Drop the connection."""
        self._transport.abort()


def start_of(octets: bytes) -> str:
    """The first of `octets`, for a line of text."""
    return ascii(octets[:60].decode("latin-1"))[1:-1] + ("…" if len(octets) > 60 else "")


def _blocks(portion: bytes) -> Iterator[bytes]:
    """`portion` in blocks that never end between a CR and its LF."""
    start = 0
    while start < len(portion):
        end = start + BLOCK
        if portion[end - 1 : end] == b"\r":
            end += 1
        yield portion[start:end]
        start = end
