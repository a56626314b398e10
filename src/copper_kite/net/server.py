"""The server's session on a socket: it carries octets between a transport and the engine, and questions to a handler.

Protocol callbacks, not streams: on the path of every message nothing is scheduled that need not be.
"""

from __future__ import annotations

import asyncio
import contextlib
import ssl
from collections.abc import Callable
from enum import Enum
from functools import partial
from typing import Any

from copper_kite.net.dialogue import Dialogue
from copper_kite.net.peer import Peer, peer_of
from copper_kite.net.session_registry import FAULT, LONG_ENOUGH, STOPPING, SWEEP_SECONDS, TIMED_OUT, SessionRegistry
from copper_kite.net.tls_transport import TlsTransport, descriptor_of, send_now
from copper_kite.smtp import Directory, Limits, Offers, Phase, RecordedServer, Reply, Server, events

__all__ = ["LATER", "Answer", "Handler", "Later", "ServerSession"]

IDLE_SECONDS = 300.0  # RFC 5321 4.5.3.2.7
FORGIVEN = 15  # commands to no purpose, between two sweeps: one a second never ends a session
TRICKLE = 256  # octets; who sends less between two sweeps, and no whole command, is as good as silent
HANDSHAKE_SECONDS = 60.0
GO_ON_SECONDS = 0.1  # until it is looked again whether the client reads our replies
MAX_IN_A_TURN = 50  # commands of one session, before the loop turns
MAX_BUFFERED = 1024 * 1024  # octets taken in while an answer is awaited


class Later(Enum):
    """The answer of a handler that will call `ServerSession.answer` itself."""

    LATER = "later"


LATER = Later.LATER
_SECURING = Phase.SECURING
_TURNS = (Phase.CLOSED, Phase.SECURING)
_BETWEEN = (Phase.FRESH, Phase.READY)
Answer = Reply | Later | None


class _State(Enum):
    """The states of a connection. Output is possible only in the first three of those after NEW."""

    NEW = "not connected yet"
    OPENING = "its handler has not said yet whether it may stay"
    OPEN = "both sides may speak"
    HALF = "the client will send no more"
    SECURING = "TLS begins: nothing can be said in clear any more, nor under TLS yet"
    SHUT = "we have closed it"
    GONE = "it is gone"


# Bound once: to look a member up on its class takes long.
_NEW, _OPENING, _OPEN, _HALF, _TLS, _SHUT, _GONE = _State
_SPEAKING = (_OPENING, _OPEN, _HALF)


class Handler:
    """A session's questions to its owner. An answer of None is the usual positive reply; LATER comes by `answer`."""

    def opened(self, session: ServerSession) -> Answer:
        """A client connected. A reply turns it away; after LATER comes `ServerSession.greet`."""
        return None

    def hello(self, event: events.Hello) -> Answer:
        """The client says who it is."""
        return None

    def secure_asked(self, event: events.SecureAsked) -> Answer:
        """TLS is to begin."""
        return None

    def mail_from(self, event: events.MailFrom) -> Answer:
        """A transaction begins."""
        return None

    def recipient_to(self, event: events.RecipientTo) -> Answer:
        """A recipient is named."""
        return None

    def content_started(self, event: events.ContentStarted | events.ChunksStarted) -> Answer:
        """The content comes next."""
        return None

    def content(self, event: events.Content) -> None:
        """A portion of the content."""

    def content_ended(self, event: events.ContentEnded) -> Answer:
        """The message is whole."""
        return None

    def content_refused(self, event: events.ContentRefused) -> None:
        """The message was refused by the engine."""

    def command_refused(self, event: events.CommandRefused) -> None:
        """A command was refused by the engine."""

    def login_asked(self, event: events.LoginAsked) -> Answer:
        """Check a login."""
        return Reply(535, "5.7.8", "login refused")

    def reset(self, event: events.Reset) -> None:
        """The transaction is dropped."""

    def closed(self) -> None:
        """The connection is gone."""

    def fault(self, error: Exception) -> None:
        """An unexpected exception ended the session."""
        raise error


class ServerSession(asyncio.Protocol):
    """One connection. `context` is for TLS, by STARTTLS, or with `secure` before anything is said; what is said goes
    into the `dialogue`, where there is one."""

    def __init__(
        self,
        name: str,
        offers: Offers,
        handler: Handler,
        registry: SessionRegistry,
        *,
        limits: Limits | None = None,
        directory: Directory | None = None,
        context: ssl.SSLContext | None = None,
        secure: bool = False,
        idle: float = IDLE_SECONDS,
        longest: float = float("inf"),
        dialogue: Dialogue | None = None,
    ) -> None:
        self.dialogue = dialogue
        self._idle = idle
        self._longest = longest
        self._sweeps = 0
        self._heard = 0  # octets since the last sweep
        self._loop = asyncio.get_running_loop()
        self._engine = self._engine_for(name, offers, limits, directory)
        self._engine.secure = secure
        self._handler = handler
        self._registry = registry
        self._context = context
        self._transport = asyncio.Transport()  # there is one when `connection_made` was called, and not before
        self._state = _NEW
        self._pauses: set[str] = set()
        self._socket = -1  # its file descriptor, where replies may go straight to it
        self._quiet_sweeps = 0
        self._refusal: Reply | None = None
        self.peer = Peer("")
        self._handlers: dict[type[events.Event], Callable[[Any], Answer]] = {
            events.Hello: handler.hello,
            events.MailFrom: handler.mail_from,
            events.RecipientTo: handler.recipient_to,
            events.ContentStarted: handler.content_started,
            events.ChunksStarted: handler.content_started,
            events.Content: handler.content,
            events.ContentEnded: handler.content_ended,
            events.ContentRefused: handler.content_refused,
            events.CommandRefused: handler.command_refused,
            events.LoginAsked: handler.login_asked,
            events.SecureAsked: self._secure_asked,
            events.Reset: handler.reset,
            events.Quit: self._quit,
        }

    def _engine_for(self, name: str, offers: Offers, limits: Limits | None, directory: Directory | None) -> Server:
        dialogue, time = self.dialogue, self._loop.time
        if dialogue is None:
            return Server(name, offers, limits, directory)
        return RecordedServer(
            name,
            offers,
            limits,
            directory,
            lambda text: dialogue.client_said(time(), text),
            lambda reply: dialogue.server_said(time(), reply),
            lambda text: dialogue.noted(time(), text),
        )

    # --- transport callbacks ----------------------------------------------------------------------------------------

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        """A client connected."""
        assert isinstance(transport, asyncio.Transport) or hasattr(transport, "write")
        self._transport = transport  # type: ignore[assignment]
        try:
            self._begin(transport)
        except Exception as error:
            self.fail(error)

    def _begin(self, transport: asyncio.BaseTransport) -> None:
        try:
            self.peer = peer_of(transport)
        except OSError:  # it connected and is gone, as port checks do
            self._state = _GONE
            self._transport.abort()
            return
        self._socket = descriptor_of(transport)
        self._refusal = self._registry.add(self)
        if not self._engine.secure:
            self._state = _OPENING
            self._open()
        elif self._refusal is not None:
            self.abort()  # nothing can be said before the handshake, and that costs the most
        else:
            self._start_tls(self._open, _OPENING)

    def _open(self) -> None:
        try:
            self._ask_whether_open()
        except Exception as error:
            self.fail(error)

    def _ask_whether_open(self) -> None:
        refusal = self._refusal or self._handler.opened(self)
        if refusal is LATER:
            return
        assert refusal is None or isinstance(refusal, Reply)
        self.greet(refusal)

    def greet(self, refusal: Reply | None = None) -> None:
        """Say who we are, or turn the client away."""
        if self._state is _OPENING:
            self._state = _OPEN
        self._engine.greet(refusal)
        self._decide(self._engine.next_event())

    def data_received(self, data: bytes) -> None:
        """Octets came in."""
        self._heard += len(data)
        try:
            event = self._engine.receive_data(data)
            if event is not None or not self.awaits_answer:
                self._decide(event)
            elif self._engine.buffered > MAX_BUFFERED:
                self.pause("answer")
        except Exception as error:
            self.fail(error)

    def fail(self, error: Exception) -> None:
        """An unexpected exception: this session ends, with a last reply if possible, and no other session does."""
        try:
            self._handler.fault(error)
        finally:
            if self._state in _SPEAKING:
                with contextlib.suppress(Exception):
                    send_now(self._transport, self._socket, FAULT.wire)
            self._shut()

    def eof_received(self) -> bool:
        """The client will send no more: what is not whole is dropped, what awaits its answer gets it."""
        if self._state in _SPEAKING:
            self._state = _HALF
        return self.awaits_answer or self._engine.more

    def connection_lost(self, error: Exception | None) -> None:
        """The connection is gone; an unfinished transaction leaves nothing."""
        if self._state is _GONE:
            return
        self._state = _GONE
        self._registry.discard(self)
        self._handler.closed()

    def pause_writing(self) -> None:
        """The client does not read our replies: then we do not read its commands."""
        self.pause("replies")

    def resume_writing(self) -> None:
        """The client reads again."""
        self.resume("replies")

    # --- questions and answers --------------------------------------------------------------------------------------

    def _decide(self, event: events.Event | None) -> None:
        """Process events until octets or a decision are awaited; then send the output."""
        engine, handlers, left = self._engine, self._handlers, MAX_IN_A_TURN
        while event is not None:
            answer = handlers[type(event)](event)
            if answer is LATER:
                break
            left -= 1
            if left <= 0:  # the others have their turn between
                if event.asks:
                    self._put_off(answer)
                else:
                    engine.more = True
                break
            event = engine.answer(answer) if event.asks else engine.next_event()
        data, state = engine.data_to_send(), self._state
        if data and (state is _OPEN or state in _SPEAKING):
            self._quiet_sweeps = 0  # a reply means that a whole command came
            send_now(self._transport, self._socket, data)
        if state is not _OPEN or engine.phase in _TURNS:
            self._take_turn()
        if engine.more:
            self.pause("turn")
            self._loop.call_soon(self._go_on)

    def _go_on(self) -> None:
        """Others had their turn: look at what is left."""
        try:
            if "replies" in self._pauses and self._state in _SPEAKING:  # nobody reads what would be said
                self._loop.call_later(GO_ON_SECONDS, self._go_on)
                return
            self.resume("turn")
            if not self.awaits_answer:
                self._decide(self._engine.next_event())
        except Exception as error:
            self.fail(error)

    def _put_off(self, answer: Answer) -> None:
        """Continue in the next turn of the loop, so that one busy client does not hold up the others."""
        assert answer is None or isinstance(answer, Reply)
        self._loop.call_soon(self.answer, answer)

    def _take_turn(self) -> None:
        """The session ends, or TLS begins."""
        phase, state = self._engine.phase, self._state
        if state is _TLS:
            self.abort()  # what was to be said cannot be
        elif state not in _SPEAKING:
            return
        elif phase is _SECURING:
            self._start_tls(self._engine.tls_established, _OPEN)
        elif phase is Phase.CLOSED or (state is _HALF and not (self.awaits_answer or self._engine.more)):
            self._shut()

    def _shut(self) -> None:
        """Close it when what was said has gone."""
        if self._state is not _GONE:
            self._state = _SHUT
        self._transport.close()

    def answer(self, reply: Reply | None = None) -> None:
        """The decision that LATER promised."""
        try:
            self._answer(reply)
        except Exception as error:
            self.fail(error)

    def _answer(self, reply: Reply | None) -> None:
        event = self._engine.answer(reply)
        if self._pauses:
            self.resume("answer")
        if self._registry.stopping:
            self._engine.close(STOPPING)
            event = self._engine.next_event()
        self._decide(event)

    @property
    def awaits_answer(self) -> bool:
        """Whether a decision is on its way."""
        return self._engine.asking or self._state is _OPENING

    @property
    def secure(self) -> bool:
        """Whether TLS is on."""
        return self._engine.secure

    @property
    def logged_in(self) -> bool:
        """Whether a login succeeded."""
        return self._engine.logged_in

    def pause(self, reason: str) -> None:
        """Read no more until each reason is gone."""
        if not self._pauses and self._state in _SPEAKING:
            self._transport.pause_reading()
        self._pauses.add(reason)

    def resume(self, reason: str) -> None:
        """A reason to pause is gone."""
        if reason in self._pauses:
            self._pauses.discard(reason)
            if not self._pauses and self._state in _SPEAKING:
                self._transport.resume_reading()

    def sweep(self) -> None:
        """End the session when nothing, or next to nothing, was heard over enough sweeps: no whole command either."""
        self._sweeps += 1
        if self._sweeps * SWEEP_SECONDS > self._longest and self._engine.phase in _BETWEEN:
            self.end(LONG_ENOUGH)
            return
        self._engine.forgive(FORGIVEN)
        heard, self._heard = self._heard, 0
        if self.awaits_answer or heard >= TRICKLE:
            self._quiet_sweeps = 0
            return
        self._quiet_sweeps += 1
        if self._quiet_sweeps > self._idle / SWEEP_SECONDS:
            self.end(TIMED_OUT)

    def end(self, reply: Reply) -> None:
        """Close from our side, with a reason."""
        self._engine.close(reply)
        self._decide(self._engine.next_event())

    def say(self, octets: bytes) -> None:
        """Send what is no answer of the engine: for stand-ins that misbehave."""
        if self._state in _SPEAKING:
            self._transport.write(octets)

    @property
    def tls(self) -> str:
        """Version and cipher of TLS, empty without it."""
        if not self._engine.secure:
            return ""
        info = self._transport.get_extra_info("cipher")
        return f"{info[1]} {info[0]}" if info else ""

    def abort(self) -> None:
        """Cut the connection."""
        self._transport.abort()

    # --- TLS --------------------------------------------------------------------------------------------------------

    def _secure_asked(self, event: events.SecureAsked) -> Answer:
        if self._context is None:
            return Reply(454, "4.7.0", "TLS is not available")
        return self._handler.secure_asked(event)

    def _quit(self, event: events.Quit) -> None:
        """Nothing to decide: the flush that follows closes the transport."""

    def _start_tls(self, done: Callable[[], None], then: _State) -> None:
        """Begin TLS, and be in another state when it is on; `done` comes before the first octets from inside it."""
        assert self._context is not None
        wrap = partial(self._context.wrap_bio, server_side=True)
        self._state = _TLS
        self._socket = -1  # from now on only what is encrypted goes there

        def ended(error: Exception | None) -> None:
            if error is None:
                self._state = then
                self._transport = secured
                done()

        secured = TlsTransport(self._transport, self, wrap, ended, HANDSHAKE_SECONDS)
