"""The events of a server engine. Those with `asks` wait for a decision before the session continues.

Frozen are those of which one is reported again and again, to several sessions (`smtp.commands.plain_mail`). To make
a frozen one takes three times as long, which is too long for what is new with each message.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from copper_kite.smtp.content import Fault, Form
from copper_kite.smtp.order import Step
from copper_kite.smtp.replies import Reply
from copper_kite.smtp.sasl import PlainLogin, ProvenLogin

__all__ = [
    "ChunksStarted",
    "CommandRefused",
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


class Event:
    """The root of all events. `step` is what a positive answer takes."""

    __slots__ = ()

    asks: ClassVar[bool] = True
    step: ClassVar[Step]


@dataclass(slots=True)
class Hello(Event):
    """EHLO (`extended`) or HELO with a name."""

    step: ClassVar[Step] = Step.HELLO
    name: str
    extended: bool


@dataclass(frozen=True, slots=True)
class MailFrom(Event):
    """A transaction begins. `path` is empty for the null reverse-path; `size` is what was declared, in octets."""

    step: ClassVar[Step] = Step.MAIL
    path: str
    size: int | None
    eight_bit: bool
    utf8: bool
    esmtp_parameters: str = ""  # those that go on, as written (`smtp.parameters`)


@dataclass(slots=True)
class RecipientTo(Event):
    """A recipient."""

    step: ClassVar[Step] = Step.RCPT
    path: str
    esmtp_parameters: str = ""  # those that go on, as written


@dataclass(frozen=True, slots=True)
class ContentStarted(Event):
    """DATA with at least one recipient accepted."""

    step: ClassVar[Step] = Step.DATA


@dataclass(slots=True)
class ChunksStarted(Event):
    """The first BDAT with at least one recipient accepted (RFC 3030 2); nothing is said until its octets are in."""

    step: ClassVar[Step] = Step.CHUNK
    octets: int
    last: bool


@dataclass(slots=True)
class Content(Event):
    """A portion of the message, dots unstuffed; more is to come."""

    asks: ClassVar[bool] = False
    data: bytes


@dataclass(slots=True)
class ContentEnded(Event):
    """The message is whole: `data` is its last portion, `size` all its octets, `ascii` says none is over 127; `form` is
    what of it is to be mended."""

    step: ClassVar[Step] = Step.END
    data: bytes
    size: int
    ascii: bool
    form: Form = Form.FIT


@dataclass(slots=True)
class ContentRefused(Event):
    """The message was read to its end and refused with `reply` for its `fault`."""

    asks: ClassVar[bool] = False
    fault: Fault
    reply: Reply


@dataclass(slots=True)
class CommandRefused(Event):
    """A command was refused by the engine itself, with `reply`: for its form, its place, or a bound of the session.

    `argument` is what stood after MAIL or RCPT; of others nothing is told, for it may be a secret.
    """

    asks: ClassVar[bool] = False
    verb: str
    argument: str
    reply: Reply


@dataclass(slots=True)
class LoginAsked(Event):
    """A login to check, or one that its mechanism has checked. Answer 235 or 535."""

    step: ClassVar[Step] = Step.LOGIN_ENDED
    login: PlainLogin | ProvenLogin


@dataclass(slots=True)
class SecureAsked(Event):
    """STARTTLS. After a positive answer has been sent, the handshake comes, then `tls_established`."""

    step: ClassVar[Step] = Step.SECURE


@dataclass(slots=True)
class Reset(Event):
    """The transaction is dropped: by RSET, a new EHLO, or the end of the session."""

    asks: ClassVar[bool] = False


@dataclass(slots=True)
class Quit(Event):
    """The session is over; pending output is sent, then the connection closes."""

    asks: ClassVar[bool] = False
