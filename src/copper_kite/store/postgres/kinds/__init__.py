"""The storage of each type of operation in the shared database: applied many at a time.

`KINDS` has a line for each type; `store.shared.encoding` makes the rows, and numbers the types.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from copper_kite.store import operations as of
from copper_kite.store.operations import Operation
from copper_kite.store.postgres.kinds import messages, recipients, upkeep
from copper_kite.store.postgres.kinds.tables import Apply, Tables
from copper_kite.store.shared.encoding import ENCODERS, Row

__all__ = ["KINDS", "Tables", "apply"]

KINDS: Mapping[type[Operation], Apply] = {
    of.AddMessage: messages.add_messages,
    of.AddContent: messages.add_content,
    of.AddRecipient: recipients.add_recipients,
    of.RecordRelayed: recipients.record_relayed,
    of.SetState: recipients.set_states,
    of.RecordAttempt: recipients.record_attempts,
    of.WriteEntry: upkeep.write_entries,
    of.DropContent: messages.drop_content,
    of.MoveContent: upkeep.nothing,
    of.RetryNow: upkeep.retry_now,
    of.StopLane: upkeep.stop_lanes,
    of.StartLane: upkeep.start_lanes,
    of.NoteFailure: recipients.note_failures,
    of.Reroute: recipients.reroute,
    of.ShiftClock: upkeep.shift_clock,
    of.FinishRequest: upkeep.finish_requests,
    of.ExtendLifetime: messages.extend_lifetimes,
    of.SendBy: recipients.send_by,
    of.HandOver: messages.hand_over,
    of.Forget: messages.forget,
    of.ForgetOld: upkeep.forget_old,
    of.Sweep: upkeep.nothing,
}
_NUMBERED = [KINDS[kind] for kind in ENCODERS]


def apply(tables: Tables, rows: Mapping[int, Sequence[Row]]) -> None:
    """Put the rows of each kind, by its number, into the open transaction. Raises psycopg.Error."""
    for number in sorted(rows):
        _NUMBERED[number](tables, rows[number])
