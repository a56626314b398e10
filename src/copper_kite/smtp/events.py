"""What a server engine reports, as frozen values. Those with `asks` wait for a decision before the session goes on."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from copper_kite.smtp.content import Fault
from copper_kite.smtp.replies import Reply
from copper_kite.smtp.sasl import PlainLogin

__all__ = [
    "Content",
    "ContentEnded",
    "ContentRefused",
    "ContentStarted",
    "Event",
    "Hello",
    "LoginAsked",
    "MailFrom",
    "Quit",
    "RecipientTo",
    "Reset",
    "SecureAsked",
]


@dataclass(frozen=True, slots=True)
class Event:
    """The root of all events."""

    asks: ClassVar[bool] = True


@dataclass(frozen=True, slots=True)
class Hello(Event):
    """EHLO (`extended`) or HELO with a name."""

    asks: ClassVar[bool] = False
    name: str
    extended: bool


@dataclass(frozen=True, slots=True)
class MailFrom(Event):
    """A transaction begins. `path` is empty for the null reverse-path; `size` is what was declared, in octets."""

    path: str
    size: int | None
    eight_bit: bool
    utf8: bool


@dataclass(frozen=True, slots=True)
class RecipientTo(Event):
    """One recipient."""

    path: str


@dataclass(frozen=True, slots=True)
class ContentStarted(Event):
    """DATA with at least one recipient accepted."""


@dataclass(frozen=True, slots=True)
class Content(Event):
    """A portion of the message, dots unstuffed; more is to come."""

    asks: ClassVar[bool] = False
    data: bytes


@dataclass(frozen=True, slots=True)
class ContentEnded(Event):
    """The message is whole: `data` is its last portion, `size` all its octets, `ascii` says none is over 127."""

    data: bytes
    size: int
    ascii: bool


@dataclass(frozen=True, slots=True)
class ContentRefused(Event):
    """The message was read to its end and refused with `reply` for its `fault`."""

    asks: ClassVar[bool] = False
    fault: Fault
    reply: Reply


@dataclass(frozen=True, slots=True)
class LoginAsked(Event):
    """A login to check. Answer 235 or 535."""

    login: PlainLogin


@dataclass(frozen=True, slots=True)
class SecureAsked(Event):
    """STARTTLS. After a positive answer has been sent, the handshake comes, then `tls_established`."""


@dataclass(frozen=True, slots=True)
class Reset(Event):
    """The transaction is dropped: by RSET, a new EHLO, or the end of the session."""

    asks: ClassVar[bool] = False


@dataclass(frozen=True, slots=True)
class Quit(Event):
    """The session is over; what is to be sent is sent, then the connection closes."""

    asks: ClassVar[bool] = False
