"""The results of verifying or rescuing a store."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import NamedTuple

from copper_kite.store.model import Message, Recipient

__all__ = ["Lost", "Rescued", "Verified"]


@dataclass(slots=True)
class Verified:
    """The result of a verification: faults of the database in its words, messages with their problems."""

    portions: int = 0
    octets: int = 0
    database: list[str] = field(default_factory=list)
    messages: dict[int, str] = field(default_factory=dict)

    @property
    def sound(self) -> bool:
        """Whether all is as it was written."""
        return not self.database and not self.messages


class Lost(NamedTuple):
    """A message of the queue that is lost: what is known of it, and why."""

    id: int
    message: Message | None
    recipients: Sequence[Recipient]
    why: str


@dataclass(slots=True)
class Rescued:
    """The result of a rescue: messages as they were, messages parked since their state is unknown, and what is lost.

    `ended` counts those that nobody wants any more. `unread` holds what of the files could not be read, in words;
    `unsure` says that there may have been more messages in that.
    """

    known: int = 0
    parked: int = 0
    ended: int = 0
    lost: list[Lost] = field(default_factory=list)
    unread: list[str] = field(default_factory=list)
    unsure: bool = False
