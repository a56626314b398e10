"""The base of a server session: its state, its replies, and its limits on errors."""

from __future__ import annotations

from collections import deque

from copper_kite.smtp import events
from copper_kite.smtp.answers import BAD_ORDER, OUT_OF_PATIENCE
from copper_kite.smtp.content import ChunkReader
from copper_kite.smtp.extensions import Offers
from copper_kite.smtp.incoming import Incoming
from copper_kite.smtp.limits import Limits
from copper_kite.smtp.lines import LineBuffer
from copper_kite.smtp.order import Phase
from copper_kite.smtp.replies import Reply

__all__ = ["ServerBase"]

MAX_TOLD = 300  # characters of a refused command
_FRESH, _CLOSED = Phase.FRESH, Phase.CLOSED
_IN_TRANSACTION = (Phase.SENDER, Phase.RECIPIENTS, Phase.CONTENT, Phase.CHUNKS)


class ServerBase:
    """The state of a session, and what is said in it. `name` is what the server calls itself."""

    def __init__(self, name: str, offers: Offers, limits: Limits) -> None:
        self.name = name
        self.phase = _FRESH
        self.secure = False
        self.logged_in = False
        self.more = False  # whether there may be more to look at, although nothing new has come
        self._offers = offers
        self._limits = limits
        self._lines = LineBuffer()
        self._out = b""
        self._asked: events.Event | None = None
        self._told: deque[events.Event] = deque()
        self._command = "", ""  # the one that is looked at: its verb and argument
        self._incoming: Incoming | None = None  # what comes now and is no command
        self._chunks: ChunkReader | None = None  # of a message that comes in chunks
        self._recipients = 0
        self._utf8 = False
        self._tries = 0  # bad commands since the last message
        self._idle_tries = 0  # commands to no purpose since then, as far as they are not forgiven
        self._excused = 0  # of those that come next and are to no purpose: they follow from a refusal of ours
        self._follows = False  # something of this transaction was refused

    def greet(self, reply: Reply | None = None) -> None:
        """Open the session with `220`, or with a refusal that closes it (RFC 5321 3.1)."""
        self._say(reply or Reply(220, "", f"{self.name} ESMTP"))
        if reply is not None and not reply.positive:
            self.phase = _CLOSED

    def data_to_send(self) -> bytes:
        """Take the pending output to the client."""
        data, self._out = self._out, b""
        return data

    @property
    def asking(self) -> bool:
        """Whether a decision is awaited."""
        return self._asked is not None

    @property
    def buffered(self) -> int:
        """Octets received and not yet looked at; grows only while a decision is awaited."""
        return self._lines.left

    def close(self, reply: Reply) -> None:
        """End the session from our side with a 421."""
        if self.phase is not _CLOSED:
            self._say(reply)
            self._close()

    def _say(self, reply: Reply) -> None:
        """A reply is due. Before EHLO, which tells of them, only one that closes has an enhanced code (RFC 2034 3)."""
        if self.phase is _FRESH and reply.enhanced and reply.code != 421:
            reply = Reply(reply.code, "", *reply.lines)
        self._out += reply.wire

    def _refuse(self, reply: Reply) -> None:
        """Answer a bad command; after too many of them the session ends."""
        self._say(reply)
        self._tell_refused(reply)
        self._waste()

    def _tell_refused(self, reply: Reply) -> None:
        """Report a refusal to the owner of the session, unless it only follows from another one: DATA, and what was
        sent after it."""
        verb, argument = self._command
        if (self._excused or self._follows) and (verb not in ("MAIL", "RCPT") or reply is BAD_ORDER):
            return
        self._told.append(events.CommandRefused(verb, argument[:MAX_TOLD] if verb in ("MAIL", "RCPT") else "", reply))

    def _waste(self, *, idle: bool = False) -> None:
        if self._excused:
            self._excused -= 1
        elif idle:
            self._idle_tries += 1
        else:
            self._tries += 1
        if self._tries + self._idle_tries > self._limits.patience:
            self.close(OUT_OF_PATIENCE)

    def forgive(self, count: int) -> None:
        """Forget so many commands to no purpose: some time has passed, and a client may keep its session alive."""
        self._idle_tries = max(0, self._idle_tries - count)

    def _close(self) -> None:
        self._drop_transaction()
        self._lines.clear()
        self._asked = None
        self.phase = _CLOSED
        self._told.append(events.Quit())

    def _drop_transaction(self) -> None:
        if self.phase in _IN_TRANSACTION:
            self._told.append(events.Reset())
        self._incoming = self._chunks = None
        self._recipients, self._utf8 = 0, False
