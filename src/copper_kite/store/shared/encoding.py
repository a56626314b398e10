"""Operations as rows of plain values, which another process can apply: numbers, strings, None, and lists of them.

A new operation is a type in `store.operations`, its encoder here in `ENCODERS`, whose order is that of `Operation`, and
in each engine its way of being applied.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from operator import attrgetter, itemgetter
from typing import Any

from copper_kite.store import operations as of
from copper_kite.store.model import Attempt
from copper_kite.store.operations import Operation, Transaction
from copper_kite.words import MESSAGE_STAGES, Cause

__all__ = [
    "ADD_CONTENT",
    "ADD_MESSAGE",
    "ADD_RECIPIENT",
    "ENCODERS",
    "MOVE_CONTENT",
    "PORTIONS",
    "PORTION_BITS",
    "RECORD_RELAYED",
    "SWEEP",
    "Put",
    "Row",
    "Steps",
    "encode",
    "has_content",
    "place",
    "places",
]

Row = tuple[Any, ...]
Steps = list[tuple[int, Row]]  # one transaction as plain values: the number of each kind, and its row
Put = Callable[[bytes], int]  # hands octets on, and says where they stand among those that go together

PORTION_BITS = 13  # a place is the message's id with the number of the portion in its low bits
PORTIONS = (1 << PORTION_BITS) - 1


def place(message: int, portion: int) -> int:
    """The place of a portion of a message's content."""
    return message << PORTION_BITS | portion


def places(message: int) -> tuple[int, int]:
    """The first and the last place that a message's content can have."""
    return place(message, 0), place(message + 1, 0) - 1


_new_recipient = itemgetter(1, 2, 9, 6)  # number, address, ESMTP parameters, connector


def _message_row(operation: of.AddMessage, put: Put) -> Row:
    """The message; number, address, ESMTP parameters, connector of each recipient; start of the content; notes."""
    message, recipients, content, taken = operation
    start = None if content is None else put(content)
    return tuple(message), list(map(_new_recipient, recipients)), start, taken


def _content_row(operation: of.AddContent, put: Put) -> Row:
    """Its place, where it starts, its size."""
    message, portion, octets = operation
    return place(message, portion), put(octets), len(octets)


def _moved_row(operation: of.MoveContent, put: Put) -> Row:
    """The start of a portion, its place, its size."""
    message, portion, octets = operation
    return put(octets), place(message, portion), len(octets)


# `_value_` is what an enum documents for this; `value` goes through a descriptor written in Python.
_recipient_row = attrgetter(
    "message", "number", "address", "state._value_", "attempts", "next_try", "connector", "reply", "changed",
    "esmtp_parameters", "next_hop", "via",
)  # fmt: skip
_state_row = attrgetter(
    "state._value_", "attempts", "next_try", "connector", "reply", "at", "next_hop", "message", "number"
)  # the new values, then whose they are


def _attempt_row(operation: of.RecordAttempt, put: Put) -> Row:
    """The columns of the attempt up to its facts; results, session, what was changed; dialogue; what it says of its
    connector."""
    attempt = operation.attempt
    facts = attempt.facts
    told = list(map(tuple, facts.results)), facts.session.text(), facts.changed
    return *attempt[:13], told, attempt.dialogue, _note(attempt)


def _note(attempt: Attempt) -> Row | None:
    """The connector's state after an attempt: its name, the time, and the failure's text, None for a success."""
    if attempt.facts.relayed:
        return attempt.connector, attempt.at, None
    if attempt.connector and not (attempt.cause and Cause(attempt.cause).final) and _speaks_of_the_session(attempt):
        said = (str(attempt.code or ""), attempt.enhanced, attempt.text)
        return attempt.connector, attempt.at, " ".join(filter(None, said))
    return None


_OF_SESSION = (421, 530)  # it closes; it wants a login first (RFC 4954 6)


def _speaks_of_the_session(attempt: Attempt) -> bool:
    """Whether a failure is the connector's, and not that of one message or recipient."""
    of_session = attempt.stage not in MESSAGE_STAGES or attempt.code in _OF_SESSION
    return of_session or bool(attempt.cause and Cause(attempt.cause).broke_session)


def _relayed_row(operation: of.RecordRelayed, put: Put) -> Row:
    """Its values in their order."""
    return *operation[:11], operation.session.text(), *operation[12:]


def _entry_row(operation: of.WriteEntry, put: Put) -> Row:
    """When, what, of which message, and its facts."""
    entry = operation.entry
    return entry.at, entry.event.value, entry.message, entry.facts


def _plain_row(operation: tuple[Any, ...], put: Put) -> Row:
    """An operation whose fields are plain values."""
    return tuple(operation)


ENCODERS: Mapping[type[Operation], Callable[[Any, Put], Row]] = {
    of.AddMessage: _message_row,
    of.AddContent: _content_row,
    of.AddRecipient: lambda operation, put: _recipient_row(operation.recipient),
    of.RecordRelayed: _relayed_row,
    of.SetState: lambda operation, put: _state_row(operation),
    of.RecordAttempt: _attempt_row,
    of.WriteEntry: _entry_row,
    of.DropContent: _plain_row,
    of.MoveContent: _moved_row,
    of.RetryNow: _plain_row,
    of.StopLane: lambda operation, put: operation.stop[:-1],
    of.StartLane: _plain_row,
    of.NoteFailure: _plain_row,
    of.Reroute: _plain_row,
    of.ShiftClock: _plain_row,
    of.FinishRequest: _plain_row,
    of.ExtendLifetime: _plain_row,
    of.SendBy: _plain_row,
    of.HandOver: lambda operation, put: (operation.slot, list(operation.messages)),
    of.Forget: _plain_row,
    of.ForgetOld: _plain_row,
    of.Sweep: _plain_row,
}
_NUMBERS = {kind: number for number, kind in enumerate(ENCODERS)}
ADD_MESSAGE, ADD_CONTENT, ADD_RECIPIENT, RECORD_RELAYED, MOVE_CONTENT, SWEEP = (
    _NUMBERS[kind]
    for kind in (of.AddMessage, of.AddContent, of.AddRecipient, of.RecordRelayed, of.MoveContent, of.Sweep)
)


def encode(transaction: Transaction, put: Put) -> Steps:
    """A transaction as plain values. Raises what `put` does."""
    return [(_NUMBERS[kind := type(operation)], ENCODERS[kind](operation, put)) for operation in transaction]


def has_content(steps: Steps) -> bool:
    """Whether octets of content go with a transaction."""
    return any(
        number in (ADD_CONTENT, MOVE_CONTENT) or (number == ADD_MESSAGE and row[2] is not None) for number, row in steps
    )
