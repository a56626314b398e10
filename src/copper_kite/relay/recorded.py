"""What becomes of one message, as it is to be recorded."""

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

__all__ = ["Recorded"]


@dataclass(slots=True, kw_only=True)
class Recorded:
    """New states of recipients, the attempt behind them, entries of the journal, and notices, which are to be handed
    on once all of it is durable. `others` is what else belongs to the transaction."""

    states: Sequence[SetState] = ()
    attempt: Attempt | None = None
    entries: Sequence[JournalEntry] = ()
    notices: Sequence[AddMessage] = ()
    others: Sequence[Operation] = ()

    def transaction(self) -> Transaction:
        """What records all of it."""
        attempts = [] if self.attempt is None else [RecordAttempt(self.attempt)]
        return [*self.notices, *self.states, *attempts, *map(WriteEntry, self.entries), *self.others]
