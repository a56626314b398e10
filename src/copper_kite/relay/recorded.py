"""The result of one message, in the form that is recorded."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from copper_kite.store import (
    AddMessage,
    Attempt,
    JournalEntry,
    Operation,
    RecordAttempt,
    SetState,
    Transaction,
    WriteEntry,
)
from copper_kite.words import Event

__all__ = ["Recorded", "remark"]


@dataclass(slots=True, kw_only=True)
class Recorded:
    """New states of recipients, the attempt that led to them, entries of the journal, and notices, which are handed on
    once all of it is durable. `others` is what else belongs to the transaction."""

    states: Sequence[SetState] = ()
    attempt: Attempt | None = None
    entries: Sequence[JournalEntry] = ()
    notices: Sequence[AddMessage] = ()
    others: Sequence[Operation] = ()

    def transaction(self) -> Transaction:
        """The operations that record everything."""
        attempts = [] if self.attempt is None else [RecordAttempt(self.attempt)]
        return [*self.notices, *self.states, *attempts, *map(WriteEntry, self.entries), *self.others]


def remark(addition: AddMessage, text: str) -> Sequence[Operation]:
    """The operations that add a message, with a remark for its history where there is one."""
    if not text:
        return (addition,)
    message = addition.message
    entry = JournalEntry(at=message.arrived, event=Event.REMARK, message=message.id, facts={"text": text})
    return (addition, WriteEntry(entry))
