"""Messages through a session that is ready: one after the other, each with its transaction (RFC 5321 3.3, RFC 2920)."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable, Iterable, Iterator

from copper_kite.net import tls
from copper_kite.net.client import ClientSession
from copper_kite.net.client_protocol import ClientProtocol
from copper_kite.net.dialogue import Dialogue
from copper_kite.net.failure import SessionFailed
from copper_kite.net.plan import Plan
from copper_kite.smtp import Envelope, Result, Transaction, stuff
from copper_kite.smtp import client as smtp
from copper_kite.words import Cause, CauseKind, Stage

__all__ = ["RelaySession"]

BLOCK = 64 * 1024  # octets of content written at a time

_END, _DATA = smtp.Verb.END, smtp.Verb.DATA


class RelaySession(ClientSession):
    """A session that carries messages. `begun` counts them; `carried` those whose transaction came to its end;
    `carries` is the id of the one that it carries now, and since when (seconds since 1970)."""

    def __init__(
        self,
        plan: Plan,
        wire: ClientProtocol,
        transport: asyncio.Transport,
        address: str,
        dialogue: Dialogue,
        earlier: tls.Sessions | None = None,
    ) -> None:
        super().__init__(plan, wire, transport, address, dialogue, earlier)
        self.begun = 0
        self.carried = 0
        self.carries: tuple[int, float] | None = None
        self._next: Transaction | None = None  # the next message's, when its first commands have gone
        self._group = b""

    @property
    def usable(self) -> bool:
        """Whether another message may go through it."""
        engine = self._engine
        if self.broken or self._wire.lost is not None or self._transport.is_closing() or engine.over:
            return False
        if self._next is not None:
            return True
        quiet = engine.waiting is None and not engine.unasked and not self._wire.has_data
        return quiet and engine.phase is smtp.Phase.READY

    @property
    def spent(self) -> bool:
        """Whether it has carried as many messages as the next hop takes in a session (RFC 9422 4)."""
        most = self._engine.capabilities.most_messages
        return most is not None and self.begun >= most

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
        the session breaks: with `results`, and whether the content had begun.
        """
        self._demand_trust()
        self.begun += 1
        self.stage = Stage.SENDER
        begun, self._next = self._next, None
        transaction = begun or Transaction(self._engine, envelope)
        try:
            self._send_group(self._group if begun else transaction.start())
            # Its commands went with the content of the one before, so their replies may all be here by now. When every
            # one is positive, they are taken as one: nothing about a single recipient needs to be decided.
            if begun and (accepted := self._engine.accepted_group()):
                self.dialogue.server_said_all(self._loop.time(), accepted)
                transaction.take_accepted_group()
            while not transaction.finished:
                if content_goes := transaction.wants_content:
                    transaction.wants_content = False
                    self.stage = Stage.CONTENT
                    # The result of the message before must be on stable storage before this one's content goes: a crash
                    # then costs at most one extra copy for each session (promise 2). Either way the loop has turned: a
                    # reply that came together with the 354 (out of step, or 421) is seen before any content leaves.
                    if before_content is not None:
                        await before_content
                    else:
                        await asyncio.sleep(0)
                    portions = () if transaction.empty else content()
                    await self._send_content(portions, envelope.size, following)
                self.stage = transaction.awaited
                answered = await (self._reply_to_come if content_goes else self._next_reply)(self._reply_bound())
                if answered.reply.code == 421:
                    raise self._closed(answered.reply)
                if wire := transaction.take(answered):
                    self._send_group(wire)
        except SessionFailed as failure:
            # Where nobody knows which command a reply was for, a positive one must not count as relayed; refusals
            # that came before the 354 are certain. `content_begun` decides whether the message may go elsewhere at
            # once: once the content was asked for, the next hop may have taken it, and a second copy would be ours.
            failure.results = (
                transaction.certain if CauseKind.UNATTRIBUTABLE in failure.cause.kind else transaction.results
            )
            failure.content_begun = transaction.content_begun
            raise
        self.carried += 1
        return transaction.results

    def _begin_following(self, following: Callable[[], Envelope | None]) -> bytes:
        """The first commands of the next message, if there is one and they may go before the reply to this one."""
        if "PIPELINING" not in self._engine.capabilities or (envelope := following()) is None:
            return b""
        self._next = Transaction(self._engine, envelope)
        self._group = self._next.start()
        return self._group

    def _reply_bound(self) -> float:
        timeouts, waiting = self.plan.timeouts, self._engine.waiting
        verb = waiting.verb if waiting is not None else None
        if verb is _END:
            return timeouts.accept
        return timeouts.data if verb is _DATA else timeouts.command

    def _send_group(self, wire: bytes) -> None:
        """Send a group of commands unless it went already, and keep it in the dialogue: none of these is secret."""
        if not wire:
            return
        self.dialogue.client_said(self._now(), wire)
        if wire is self._group:
            self._group = b""
        else:
            self._put(wire)

    async def _send_content(
        self, portions: Iterable[bytes], size: int, following: Callable[[], Envelope | None]
    ) -> None:
        # The end of content goes in the same write as the last block, and the next message's commands after it: with a
        # small message, one packet carries all of it, and one wait for the network is saved for each message.
        began, line_start, wire = self._loop.time(), True, b""
        for portion in portions:
            for block in (portion,) if len(portion) <= BLOCK else _blocks(portion):
                wire += stuff(block, line_start=line_start)
                line_start = block.endswith(b"\n")
                if len(wire) >= BLOCK:
                    self._check_nothing_unasked()
                    await self._write(wire)
                    wire = b""
        self._check_nothing_unasked()  # a reply before the end of content is no reply to it
        self._put(b"".join((wire, self._engine.send(smtp.END_OF_CONTENT), self._begin_following(following))))
        now = self._loop.time()
        self.dialogue.noted(now, "content sent, %d octets in %.3f s", size, now - began)

    async def _write(self, wire: bytes) -> None:
        self._wire.set_deadline(self.plan.timeouts.block)
        self._put(wire)
        await self._wire.drain()
        if self._wire.timed_out:
            raise self._failed(Cause.TIMED_OUT, "the next hop does not take the content")
        if self._wire.lost is not None:
            raise self._lost()


def _blocks(portion: bytes) -> Iterator[bytes]:
    """`portion` in blocks that never end between a CR and its LF."""
    start = 0
    while start < len(portion):
        end = start + BLOCK
        if portion[end - 1 : end] == b"\r":
            end += 1
        yield portion[start:end]
        start = end
