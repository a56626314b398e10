"""A session that ended early, with all that it saw until then."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import NamedTuple

from copper_kite.errors import KiteError
from copper_kite.smtp import Reply, Result
from copper_kite.words import Cause, Stage

__all__ = ["PassedOver", "SessionFailed", "SessionSeen", "StageDone", "Tried"]


class StageDone(NamedTuple):
    """A stage that a session passed, how long it took in seconds, and what came back."""

    stage: Stage
    seconds: float
    said: str


class Tried(NamedTuple):
    """An address of a next hop that gave no session: the stage that stopped it, the cause, and the reply or words."""

    next_hop: str
    address: str
    stage: Stage
    cause: Cause
    said: str


class PassedOver(NamedTuple):
    """A next hop that was known to be down, since an instant in seconds since 1970, and was not tried: see `Tried`."""

    next_hop: str
    address: str
    stage: Stage
    cause: Cause
    said: str
    since: float


@dataclass(frozen=True, slots=True, kw_only=True)
class SessionSeen:
    """The progress of a session and what it saw.

    `next_hop` and `address` are with whom; `tried` lists the addresses that gave no session before, `passed_over` the
    next hops that had been down already; `in_clear` is what was offered before TLS, None when it never came to that;
    `chain` the certificates shown, in DER, the peer's first; `policy` what TLS was demanded by (see `Demand`).
    """

    next_hop: str = ""
    address: str = ""
    stages: Sequence[StageDone] = ()
    tried: Sequence[Tried] = ()
    passed_over: Sequence[PassedOver] = ()
    tls: str = ""
    in_clear: Mapping[str, tuple[str, ...]] | None = None
    keywords: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    chain: Sequence[bytes] = ()
    policy: str = ""


class SessionFailed(KiteError):
    """Raised when a session with a next hop stopped before its work was done.

    `reply` is the reply that stopped it, if one did; `text` says in one line what happened. When it stopped in the
    middle of a message, `results` are the replies that had decided recipients, and `content_begun` says that the next
    hop had asked for the content, so that it may have taken the message.
    """

    exit_code = 4

    def __init__(
        self, stage: Stage, cause: Cause, text: str, reply: Reply | None = None, seen: SessionSeen | None = None
    ) -> None:
        super().__init__(text)
        self.stage = stage
        self.cause = cause
        self.text = text
        self.reply = reply
        self.seen = seen or SessionSeen()
        self.results: Sequence[Result] = ()
        self.content_begun = False

    @property
    def codes(self) -> tuple[int | None, str]:
        """The codes of the reply that stopped it, where the reply says why: basic and enhanced."""
        told = self.reply is not None and self.cause is Cause.REPLY
        return (self.reply.code, self.reply.enhanced) if told and self.reply is not None else (None, "")

    @property
    def said(self) -> str:
        """The reply that stopped it, or else what happened."""
        return self.text if self.reply is None else str(self.reply)
