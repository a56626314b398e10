"""The operations on the store. Each is one value; a transaction is a sequence of them, kept whole or not at all.

Operations of one transaction are applied kind by kind, in the order in which they stand in `Operation`, and so are
those of transactions that are written together: no result may depend on another order. Transactions are kept in the
order of their submission, with one exception: those that hold a single `AddMessage` with its content, or a single
`RecordRelayed`, may overtake others and be overtaken; nothing else that is submitted before they are on stable storage
may speak of the same message. `ShiftClock` is never overtaken, and overtakes nothing.

Instants are seconds since 1970 (UTC), sizes are octets.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import NamedTuple

from copper_kite.errors import KiteError
from copper_kite.store.facts import SessionFacts
from copper_kite.store.model import Attempt, JournalEntry, LaneStop, Message, Recipient
from copper_kite.words import State

__all__ = [
    "AddContent",
    "AddMessage",
    "AddRecipient",
    "Done",
    "DropContent",
    "ExtendLifetime",
    "FinishRequest",
    "Forget",
    "ForgetOld",
    "HandOver",
    "MoveContent",
    "NoteFailure",
    "Operation",
    "RecordAttempt",
    "RecordRelayed",
    "Reroute",
    "RetryNow",
    "SendBy",
    "SetState",
    "ShiftClock",
    "StartLane",
    "StopLane",
    "Submit",
    "Sweep",
    "Transaction",
    "WriteEntry",
]


class AddMessage(NamedTuple):
    """Add a message to the queue. Its recipients are numbered from 1, and due at once.

    `content` is None where portions of it were added before (`AddContent`), or come in the same transaction. `taken`
    adds to what a sender has submitted: (who, hour, recipients).
    """

    message: Message
    recipients: Sequence[Recipient]
    content: bytes | None
    taken: tuple[str, int, int] = ("", 0, 0)


class AddContent(NamedTuple):
    """Keep a portion of a message's content; portions are numbered from 0. The message itself may come later."""

    message: int
    portion: int
    octets: bytes


class AddRecipient(NamedTuple):
    """Add a recipient to a message, in the state that it gives."""

    recipient: Recipient


class RecordRelayed(NamedTuple):
    """Record an attempt that relayed a message to all its recipients: `RecordAttempt` and a `SetState` for each.

    `results` holds (number, attempts, address, reply) of each recipient; `whole` says that the message has no others,
    and a single portion of content. It began at `at`, took so many seconds, and ended at `now`. The message arrived
    then, has so many octets, and was submitted by `who`.
    """

    id: int
    message: int
    at: float
    seconds: float
    connector: str
    next_hop: str
    address: str
    code: int
    enhanced: str
    text: str
    results: Sequence[tuple[int, int, str, str]]
    session: SessionFacts
    now: float
    whole: bool
    arrived: float = 0.0
    size: int = 0
    who: str = ""


class SetState(NamedTuple):
    """Give a recipient another state. Content goes when nobody can want it any more: the last of its message is
    relayed or removed."""

    message: int
    number: int
    state: State
    attempts: int
    next_try: float | None
    connector: str
    reply: str
    at: float
    next_hop: str = ""


class RecordAttempt(NamedTuple):
    """Record an attempt, and what it says of its connector: its last success or failure."""

    attempt: Attempt


class NoteFailure(NamedTuple):
    """Note when a connector failed last, at an instant and by which words, where that is no message's attempt."""

    connector: str
    at: float
    text: str


class WriteEntry(NamedTuple):
    """Write an entry of the journal."""

    entry: JournalEntry


class DropContent(NamedTuple):
    """Remove the content of a message, also of one that never came to be."""

    message: int


class MoveContent(NamedTuple):
    """Keep a portion of content elsewhere, so that the place where it stands can be given up. Same octets."""

    message: int
    portion: int
    octets: bytes


class RetryNow(NamedTuple):
    """Make all delayed recipients of a connector due at this instant, if they are not before."""

    connector: str
    at: float


class StopLane(NamedTuple):
    """Note that a lane does not move, and why; or that it still does not."""

    stop: LaneStop


class StartLane(NamedTuple):
    """Note that a lane moves again."""

    connector: str
    domain: str


class Reroute(NamedTuple):
    """Move a recipient to another connector, as the present configuration routes it."""

    connector: str
    message: int
    number: int


class ShiftClock(NamedTuple):
    """Move instants that were computed from the wrong time: the clock was set by so many seconds when it showed
    `before`. What was noted later than that stays as it is."""

    seconds: float
    before: float


class FinishRequest(NamedTuple):
    """Forget what an administrator wanted, for it is done. `number` as in `AdminRequest`."""

    number: int


class ExtendLifetime(NamedTuple):
    """Give a message another end of its lifetime."""

    message: int
    expires: float


class SendBy(NamedTuple):
    """Move a recipient to the connector that an administrator chose."""

    connector: str
    message: int
    number: int


class HandOver(NamedTuple):
    """Give messages to another server of those that share the queue; to slot 0, which no server has, so that none of
    them sends them. Nothing is being done with them here."""

    slot: int
    messages: Sequence[int]


class Forget(NamedTuple):
    """Keep nothing of a message."""

    message: int


class ForgetOld(NamedTuple):
    """Forget what the journal says of no message before `at` (a part of it, where that is much), and what senders
    submitted and what was counted by the minute before `hour`, and by the hour before `counts` (both since 1970)."""

    at: float
    hour: int
    counts: int = 0


class Sweep(NamedTuple):
    """Remove files that hold nothing any more, and lay in what is kept for a full disk."""


Operation = (
    AddMessage | AddContent | AddRecipient | RecordRelayed | SetState | RecordAttempt | WriteEntry | DropContent
    | MoveContent | RetryNow | StopLane | StartLane | NoteFailure | Reroute | ShiftClock | FinishRequest
    | ExtendLifetime | SendBy | HandOver | Forget | ForgetOld | Sweep
)  # fmt: skip
Transaction = Sequence[Operation]
Done = Callable[[KiteError | None], None]  # called when a transaction is on stable storage, or with what kept it out
Submit = Callable[[Transaction, Done], None]  # has a transaction written
