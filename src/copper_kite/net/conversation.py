"""The client's end of a session on a socket: commands out, replies in, each within its bound in seconds.

Whatever goes wrong comes out as SessionFailed with the stage reached. What is said goes into a dialogue; no secret
does.
"""

from __future__ import annotations

import asyncio
import ssl

from copper_kite.errors import OutOfStep, ProtocolViolation
from copper_kite.net import tls
from copper_kite.net.client_protocol import ClientProtocol
from copper_kite.net.dialogue import Dialogue
from copper_kite.net.failure import PassedOver, SessionFailed, SessionSeen, StageDone, Tried
from copper_kite.net.plan import Plan
from copper_kite.smtp import Capabilities, Masks, Reply
from copper_kite.smtp import client as smtp
from copper_kite.words import Cause, Stage

__all__ = ["FAREWELL_SECONDS", "Conversation", "start_of"]

FAREWELL_SECONDS = 2.0  # at most, for the reply to QUIT of a session that failed: a new one may be waiting for it


class Conversation:
    """A connection to a next hop over which commands and replies go.

    `stages` are those passed; `tried` the addresses that gave no session; `passed_over` the next hops that come before
    this one and are known to be down; `in_clear` is what was offered before TLS;
    `chain` the certificates shown, in DER, the next hop's own first.
    """

    lenient = False  # whether the caller judges the replies (see `smtp.client.Client`)

    def __init__(
        self, plan: Plan, wire: ClientProtocol, transport: asyncio.Transport, address: str, dialogue: Dialogue
    ) -> None:
        self._loop = asyncio.get_running_loop()
        self.plan = plan
        self.hop = plan  # the next hop as its connector has it; `plan` is what its policy and TLS made of that
        self._wire = wire
        self._transport = transport
        self._engine = smtp.Client(lenient=self.lenient)
        self.address = address
        self.where = plan.where
        self.dialogue = dialogue
        self.stages: list[StageDone] = []
        self.tried: list[Tried] = []
        self.passed_over: tuple[PassedOver, ...] = ()
        self.in_clear: Capabilities | None = None
        self.chain: list[bytes] = []
        self.stage = Stage.GREET
        self.tls_version = ""  # as in `TLSv1.3`
        self.cipher = ""
        self._masks: Masks | None = None  # once there are secrets that the other side knows
        self._unmasked: Reply | None = None  # the last reply since then as it was: a challenge is read from it
        self.broken = False  # whether anything failed: replies may still come, and would answer the wrong commands

    @property
    def capabilities(self) -> Capabilities:
        """The capabilities that the next hop offers now."""
        return self._engine.capabilities

    def seen(self) -> SessionSeen:
        """The progress of the session and what it saw."""
        return SessionSeen(
            next_hop=self.where,
            address=self.address,
            stages=self.stages,
            tried=self.tried,
            tls=f"{self.tls_version} {self.cipher}" if self.tls_version else "",
            in_clear=None if self.in_clear is None else self.in_clear.keywords,
            keywords=self.capabilities.keywords,
            chain=self.chain,
            policy=self.plan.demand.name if self.plan.demand is not None else "",
        )

    def _now(self) -> float:
        return self._loop.time()

    def _failed(self, cause: Cause, text: str, reply: Reply | None = None) -> SessionFailed:
        self.broken = True
        text = text if self._masks is None else self._masks.text(text)
        self.dialogue.noted(self._now(), text)
        return SessionFailed(self.stage, cause, text, reply, self.seen())

    def _stage_done(self, began: float, said: object) -> None:
        self.stages.append(StageDone(self.stage, self._now() - began, str(said)))

    # --- out --------------------------------------------------------------------------------------------------------

    def _put(self, wire: bytes) -> None:
        """Send octets. Raises SessionFailed when the connection is gone."""
        if self._wire.lost is None:
            try:
                self._transport.write(wire)
                return
            except RuntimeError as error:  # the event loop closed its handle, and calls `connection_lost` only later
                self._wire.lost = ConnectionResetError(str(error))
        raise self._lost()

    async def _ask(self, command: smtp.Command, seconds: float) -> Reply:
        self.dialogue.client_said(self._now(), command.shown)
        self._put(self._engine.send(command))
        return (await self._next_reply(seconds)).reply

    # --- in ---------------------------------------------------------------------------------------------------------

    async def _next_reply(self, seconds: float) -> smtp.Answered:
        """The next reply, within `seconds`. Raises SessionFailed: lost, timed out, no reply, out of step."""
        return self._at_hand() or await self._reply_to_come(seconds)

    async def _reply_to_come(self, seconds: float) -> smtp.Answered:
        """As `_next_reply`, where nothing has come in yet."""
        self._wire.set_deadline(seconds)
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

    def _at_hand(self) -> smtp.Answered | None:
        """The next reply, if it has come in. Raises SessionFailed for what is none, or out of step."""
        try:
            answered = self._engine.next_reply()
        except ProtocolViolation as error:
            heard = f": {start_of(error.heard)}" if error.heard else ""
            cause = Cause.OUT_OF_STEP if isinstance(error, OutOfStep) else Cause.PROTOCOL
            raise self._failed(cause, f"{error}{heard}") from error
        if answered is not None:
            if self._masks is not None:
                self._unmasked = reply = answered.reply
                masked = self._masks.reply(reply)
                if masked is not reply:
                    answered = answered._replace(reply=masked)
            self.dialogue.server_said(self._loop.time(), answered.reply)
        return answered

    def _check_nothing_unasked(self) -> None:
        """Check that no reply came in where none is awaited. Raises SessionFailed: closed, out of step, lost."""
        if self._wire.has_data:
            self._engine.receive_data(self._wire.take())
        if self._engine.unasked:
            if (answered := self._at_hand()) is not None:
                raise self._closed(answered.reply)
            raise self._failed(Cause.OUT_OF_STEP, f"a reply to no command: {start_of(self._engine.begun)}")
        if self._wire.lost is not None:
            raise self._lost()

    def _closed(self, reply: Reply) -> SessionFailed:
        return self._failed(Cause.REPLY, f"session closed: {reply}", reply)

    def _lost(self) -> SessionFailed:
        """The connection is gone: by an alert of TLS that says more, or without a word."""
        error = self._wire.lost or OSError()
        cause = tls.cause_of(error)
        if isinstance(error, ssl.SSLError) and cause is not Cause.TLS_FAILED:
            self.stage = Stage.SECURE  # with TLS 1.3 the next hop's verdict on the handshake comes after it
            return self._failed(cause, tls.describe(error))
        begun = f", in the middle of a reply: {start_of(self._engine.begun)}" if self._engine.begun else ""
        return self._failed(Cause.LOST, f"connection lost: {tls.describe(error)}{begun}")

    # --- the end ----------------------------------------------------------------------------------------------------

    async def close(self, seconds: float | None = None) -> None:
        """QUIT where it can still be sent, and the end of TLS (RFC 5321 4.1.1.10, RFC 8446 6.1).

        The reply is waited for, `seconds` at most (else the plan's bound), unless other replies are still due or can
        no longer be attributed. Nothing that happens here changes a result.
        """
        if self._wire.lost is not None or not self._engine.may_send(smtp.Verb.QUIT):
            self.abort()
            return
        in_step = self._engine.waiting is None and self._engine.phase is not smtp.Phase.SPOILT
        self.stage, began = Stage.QUIT, self._now()
        try:
            if in_step:
                bound = self.plan.timeouts.quit if seconds is None else min(seconds, self.plan.timeouts.quit)
                self._stage_done(began, await self._ask(smtp.quit_session(), bound))
            else:
                self.dialogue.client_said(began, "QUIT")
                self._put(self._engine.send(smtp.quit_session()))
        except SessionFailed:
            self.abort()
            return
        self._transport.close()
        if self._transport.get_write_buffer_size():  # a peer that does not read must not hold the connection
            self._loop.call_later(self.plan.timeouts.quit, self.abort)

    def abort(self) -> None:
        """Drop the connection."""
        self._transport.abort()


def start_of(octets: bytes) -> str:
    """The first of `octets`, for a line of text."""
    return ascii(octets[:60].decode("latin-1"))[1:-1] + ("…" if len(octets) > 60 else "")
