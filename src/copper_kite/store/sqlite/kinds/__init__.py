"""The storage of each type of operation in the database: applied many at a time.

`KINDS` has a line for each type; `store.shared.encoding` makes the rows, and numbers the types.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Mapping, Sequence

from copper_kite.store import operations as of
from copper_kite.store.operations import Operation
from copper_kite.store.shared.encoding import ENCODERS, Row
from copper_kite.store.sqlite.kinds import lanes, messages, recipients, upkeep
from copper_kite.store.sqlite.kinds.kind import Kind, expand
from copper_kite.store.sqlite.segments import Extent

__all__ = ["KINDS", "Kind", "apply"]

KINDS: Mapping[type[Operation], Kind] = {
    of.AddMessage: Kind(messages.add_messages),
    of.AddContent: Kind(messages.add_content),
    of.AddRecipient: Kind(recipients.add_recipients, lambda row: row[0]),
    of.RecordRelayed: Kind(recipients.record_relayed),
    of.SetState: Kind(recipients.set_states, lambda row: row[7]),
    of.RecordAttempt: Kind(recipients.record_attempts, lambda row: row[1]),
    of.WriteEntry: Kind(upkeep.write_entries, lambda row: row[2]),
    of.DropContent: Kind(messages.drop_content),
    of.MoveContent: Kind(messages.move_content, messages.moved_message),
    of.RetryNow: Kind(lanes.retry_now),
    of.StopLane: Kind(lanes.stop_lanes),
    of.StartLane: Kind(lanes.start_lanes),
    of.NoteFailure: Kind(recipients.note_failures),
    of.Reroute: Kind(lanes.reroute),
    of.ShiftClock: Kind(upkeep.shift_clock),
    of.FinishRequest: Kind(upkeep.finish_requests),
    of.ExtendLifetime: Kind(messages.extend_lifetimes, lambda row: row[0]),
    of.SendBy: Kind(recipients.send_by, lambda row: row[1]),
    of.HandOver: Kind(upkeep.hand_over),
    of.Forget: Kind(messages.forget),
    of.ForgetOld: Kind(upkeep.forget_old),
    of.Sweep: Kind(upkeep.sweep),
}
_NUMBERED = [KINDS[kind] for kind in ENCODERS]


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
