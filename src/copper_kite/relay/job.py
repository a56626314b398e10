"""A job: the recipients of a message that one attempt carries."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Collection, Iterable
from dataclasses import dataclass, field, replace

from copper_kite.errors import ContentUnreadable
from copper_kite.relay.turns import Flow
from copper_kite.routing import any_fits
from copper_kite.settings import Endpoint
from copper_kite.smtp import Envelope
from copper_kite.store import Message, Recipient
from copper_kite.words import Priority

__all__ = ["Job", "Load", "SenderRule"]


@dataclass(frozen=True, slots=True)
class SenderRule:
    """The sender under which a connector's mail leaves, and the patterns of those that may stay what they are."""

    sender: str
    keeps: tuple[str, ...] = ()

    def lets_pass(self, path: str) -> bool:
        """Whether mail from `path` leaves as it is."""
        return any_fits([self.sender, *self.keeps], path)


@dataclass(slots=True)
class Load:
    """How many jobs of a lane are in hand: waiting for a session, on their way, or being recorded."""

    jobs: int = 0


@dataclass(slots=True, eq=False)
class Job:
    """The work of one attempt: a message to those of its recipients that share a connector."""

    message: Message
    recipients: list[Recipient]
    connector: str  # empty when none carries them
    next_hop: Endpoint | None
    octets: bytes | None  # the content, where it is in memory
    read: Callable[[int], Iterable[bytes]]  # the content of a message, a portion at a time
    domain: str = ""  # of the recipients, where that decides the next hop
    whole: bool = False  # these are all the recipients that the message has, and its content is a single portion
    load: Load = field(default_factory=Load)  # of its lane
    changed: str = ""  # what of the message is changed for the next hop that it goes to, in words
    signed: str = ""  # by whom, as it goes to that next hop
    shift: float = 0.0  # seconds by which the clock was set since it was taken: its lifetime ends so much later
    _envelope: Envelope | None = field(init=False, default=None)

    @property
    def flow(self) -> Flow:
        """The flow that it belongs to in its lane."""
        message = self.message
        return Flow(message.user or message.client, Priority.of(message.priority))

    @property
    def envelope(self) -> Envelope:
        """The stored content for the transaction; assembled when the job's turn comes."""
        if self._envelope is None:
            self._envelope = self._envelope_of()
        return self._envelope

    def _envelope_of(self) -> Envelope:
        message, recipients = self.message, self.recipients
        if len(recipients) == 1:
            paths: tuple[str, ...] = (recipients[0].address,)
            parameters: tuple[str, ...] = (recipients[0].esmtp_parameters,)
        else:
            paths = tuple([recipient.address for recipient in recipients])
            parameters = tuple([recipient.esmtp_parameters for recipient in recipients])
        return Envelope(
            message.reverse_path, paths, message.size, message.eight_bit, message.utf8, message.esmtp_parameters,
            parameters if any(parameters) else (),
        )  # fmt: skip

    def content(self) -> Iterable[bytes]:
        """The content as it is kept, a portion at a time. Raises ContentUnreadable."""
        return (self.octets,) if self.octets is not None else self.read(self.message.id)

    def beginning(self) -> bytes:
        """The first portion; empty where it cannot be read."""
        with contextlib.suppress(ContentUnreadable):
            return next(iter(self.content()), b"")
        return b""

    def divided(self, apart: Collection[str]) -> tuple[Job, Job]:
        """The same without the recipients `apart`, and one with them alone."""
        ours = [recipient for recipient in self.recipients if recipient.address not in apart]
        theirs = [recipient for recipient in self.recipients if recipient.address in apart]
        return replace(self, recipients=ours, whole=False), replace(self, recipients=theirs, whole=False)
