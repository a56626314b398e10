"""What is to be carried: what one attempt takes of a message."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Collection, Iterable, Iterator
from dataclasses import dataclass, field, replace

from copper_kite.errors import ContentUnreadable
from copper_kite.mail.header import header_end
from copper_kite.mail.readdress import leave_under
from copper_kite.settings.units import Endpoint
from copper_kite.smtp.transaction import Envelope
from copper_kite.store.model import Message, Recipient

__all__ = ["Job"]


@dataclass(slots=True)
class Job:
    """What one attempt is to carry: a message to those of its recipients that share a connector."""

    message: Message
    recipients: list[Recipient]
    connector: str  # empty when none carries them
    next_hop: Endpoint | None
    octets: bytes | None  # the content, where it is in memory
    read: Callable[[int], Iterable[bytes]]  # the content of a message, a portion at a time
    domain: str = ""  # of the recipients, where that decides the next hop
    whole: bool = False  # these are all the recipients that the message has, and its content is a single portion
    envelope: Envelope = field(init=False)
    outgoing: Callable[[], Iterable[bytes]] = field(init=False)  # the content as it leaves

    def __post_init__(self) -> None:
        message, recipients, self.outgoing = self.message, self.recipients, self.content
        if len(recipients) == 1:
            paths: tuple[str, ...] = (recipients[0].address,)
            asked: tuple[str, ...] = (recipients[0].asked,)
        else:
            paths = tuple([recipient.address for recipient in recipients])
            asked = tuple([recipient.asked for recipient in recipients])
        self.envelope = Envelope(
            message.reverse_path, paths, message.size, message.eight_bit, message.utf8, message.asked,
            asked if any(asked) else (),
        )  # fmt: skip

    def content(self) -> Iterable[bytes]:
        """The content as it is kept, a portion at a time. Raises ContentUnreadable."""
        return (self.octets,) if self.octets is not None else self.read(self.message.id)

    def beginning(self) -> bytes:
        """The first portion; empty where it cannot be read."""
        with contextlib.suppress(ContentUnreadable):
            return next(iter(self.content()), b"")
        return b""

    def leave_under(self, sender: str, keeps: Callable[[str], bool]) -> None:
        """Have it leave as if from `sender`, unless the sender it has is one that `keeps` lets pass."""
        first = self.beginning()
        end = header_end(first)
        header = leave_under(first[:end], sender, keeps)
        path = self.envelope.reverse_path
        self.envelope = self.envelope._replace(
            reverse_path=path if not path or keeps(path) else sender, size=self.message.size + len(header) - end
        )

        def portions() -> Iterator[bytes]:
            kept = iter(self.content())
            yield header + next(kept, b"")[end:]
            yield from kept

        self.outgoing = portions

    def divided(self, apart: Collection[str]) -> tuple[Job, Job]:
        """The same without the recipients `apart`, and one with them alone."""
        ours = [recipient for recipient in self.recipients if recipient.address not in apart]
        theirs = [recipient for recipient in self.recipients if recipient.address in apart]
        return replace(self, recipients=ours, whole=False), replace(self, recipients=theirs, whole=False)
