"""Messages that our own faults hit again and again: after a few tries they are parked, and someone is told."""

from __future__ import annotations

from copper_kite.store import Change, JournalEntry
from copper_kite.words import Event, State

__all__ = ["PARK_AFTER", "Poison"]

PARK_AFTER = 5  # faults of ours since the start
MAX_COUNTED = 10_000  # messages


class Poison:
    """Counts the faults of each message since the start."""

    def __init__(self) -> None:
        self._hits: dict[int, int] = {}

    def parks(self, message: int, change: Change, now: float) -> bool:
        """Count a fault, of which `change` is the record; whether it is one too many, and parks the message now."""
        count = self._hits.pop(message, 0) + 1
        if count < PARK_AFTER:
            self._hits[message] = count
            if len(self._hits) > MAX_COUNTED:
                del self._hits[next(iter(self._hits))]
            return False
        if all(outcome.state is not State.DELAYED for outcome in change.outcomes):
            return False
        change.outcomes = [
            outcome._replace(state=State.PARKED, next_try=None) if outcome.state is State.DELAYED else outcome
            for outcome in change.outcomes
        ]
        text = f"parked after {PARK_AFTER} faults of our own; `kite queue release` lets it go on"
        entry = JournalEntry(at=now, event=Event.ALARM, message=message, facts={"who": "this server", "text": text})
        change.journal = [*change.journal, entry]
        return True
