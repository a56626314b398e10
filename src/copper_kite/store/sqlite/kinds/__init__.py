"""The storage of each type of operation: encoded as plain values for the process that writes, and applied there, many
at a time.

A new operation is a type in `store.operations`, its encoder and its way of being applied in one of these modules, and
a line in `KINDS`, whose order is that of `Operation`.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Mapping, Sequence

from copper_kite.store import operations as of
from copper_kite.store.operations import Operation, Transaction
from copper_kite.store.sqlite.kinds import lanes, messages, recipients, upkeep
from copper_kite.store.sqlite.kinds.kind import Kind, Put, Row, expand
from copper_kite.store.sqlite.segments import Extent

__all__ = [
    "ADD_CONTENT",
    "ADD_MESSAGE",
    "ADD_RECIPIENT",
    "KINDS",
    "MOVE_CONTENT",
    "RECORD_RELAYED",
    "SWEEP",
    "Kind",
    "Put",
    "Row",
    "Steps",
    "apply",
    "encode",
    "has_content",
]

Steps = list[tuple[int, Row]]  # one transaction as plain values: the number of each kind, and its row

KINDS: Mapping[type[Operation], Kind] = {
    of.AddMessage: Kind(messages.message_row, messages.add_messages),
    of.AddContent: Kind(messages.content_row, messages.add_content),
    of.AddRecipient: Kind(recipients.recipient_row, recipients.add_recipients, lambda row: row[0]),
    of.RecordRelayed: Kind(recipients.relayed_row, recipients.record_relayed),
    of.SetState: Kind(recipients.state_row, recipients.set_states, lambda row: row[7]),
    of.RecordAttempt: Kind(recipients.attempt_row, recipients.record_attempts, lambda row: row[1]),
    of.WriteEntry: Kind(upkeep.entry_row, upkeep.write_entries, lambda row: row[2]),
    of.DropContent: Kind(upkeep.plain_row, messages.drop_content),
    of.MoveContent: Kind(messages.moved_row, messages.move_content, messages.moved_message),
    of.RetryNow: Kind(upkeep.plain_row, lanes.retry_now),
    of.StopLane: Kind(lanes.stop_row, lanes.stop_lanes),
    of.StartLane: Kind(upkeep.plain_row, lanes.start_lanes),
    of.NoteFailure: Kind(upkeep.plain_row, recipients.note_failures),
    of.Reroute: Kind(upkeep.plain_row, lanes.reroute),
    of.ShiftClock: Kind(upkeep.plain_row, upkeep.shift_clock),
    of.FinishOrder: Kind(upkeep.plain_row, upkeep.finish_orders),
    of.ExtendLifetime: Kind(upkeep.plain_row, messages.extend_lifetimes, lambda row: row[0]),
    of.SendBy: Kind(upkeep.plain_row, recipients.send_by, lambda row: row[1]),
    of.Forget: Kind(upkeep.plain_row, messages.forget),
    of.ForgetOld: Kind(upkeep.plain_row, upkeep.forget_old),
    of.Sweep: Kind(upkeep.plain_row, upkeep.sweep),
}
_NUMBERED = tuple(KINDS.values())
_NUMBERS = {kind: number for number, kind in enumerate(KINDS)}
ADD_MESSAGE, ADD_CONTENT, ADD_RECIPIENT, RECORD_RELAYED, MOVE_CONTENT, SWEEP = (
    _NUMBERS[kind]
    for kind in (of.AddMessage, of.AddContent, of.AddRecipient, of.RecordRelayed, of.MoveContent, of.Sweep)
)


def encode(transaction: Transaction, put: Put) -> Steps:
    """Plain values: numbers, strings, None, and lists and dictionaries of them. Raises what `put` does."""
    return [(_NUMBERS[kind := type(operation)], KINDS[kind].encode(operation, put)) for operation in transaction]


def has_content(steps: Steps) -> bool:
    """Whether octets of content go with a transaction."""
    return any(
        number in (ADD_CONTENT, MOVE_CONTENT) or (number == ADD_MESSAGE and row[2] is not None) for number, row in steps
    )


def apply(connection: sqlite3.Connection, rows: Mapping[int, Sequence[Row]], at: Extent) -> None:
    """Put the rows of each kind, by its number, into the open transaction; `at` is where their content stands.

    Raises sqlite3.Error.
    """
    numbers, expanded = sorted(rows), False
    for number in numbers:
        kind = _NUMBERED[number]
        if kind.message is not None and not expanded:
            expanded = True
            expand(connection, _messages(rows, numbers))
        kind.apply(connection, rows[number], at)


def _messages(rows: Mapping[int, Sequence[Row]], numbers: Sequence[int]) -> set[int]:
    """The messages that something is said of."""
    results = {
        message(row) for number in numbers if (message := _NUMBERED[number].message) is not None for row in rows[number]
    }
    return {id for id in results if id is not None}
