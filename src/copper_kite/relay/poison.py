"""Messages that our own faults hit repeatedly: after a few tries they are parked and reported."""

from __future__ import annotations

from copper_kite.relay.recorded import Recorded
from copper_kite.store import JournalEntry
from copper_kite.words import Event, State

__all__ = ["PARK_AFTER", "Poison"]

PARK_AFTER = 5  # faults of ours since the start
MAX_COUNTED = 10_000  # messages


class Poison:
    """Counts the faults of each message since the start."""

    def __init__(self) -> None:
        self._hits: dict[int, int] = {}

    def parks(self, message: int, recorded: Recorded, now: float) -> bool:
        """Count a fault, of which `recorded` is the record; whether it is one too many, and parks the message now."""
        count = self._hits.pop(message, 0) + 1
        if count < PARK_AFTER:
            self._hits[message] = count
            if len(self._hits) > MAX_COUNTED:
                del self._hits[next(iter(self._hits))]
            return False
        if all(state.state is not State.DELAYED for state in recorded.states):
            return False
        recorded.states = [
            state._replace(state=State.PARKED, next_try=None) if state.state is State.DELAYED else state
            for state in recorded.states
        ]
        text = f"parked after {PARK_AFTER} faults of our own; `kite queue release` lets it go on"
        entry = JournalEntry(at=now, event=Event.ALARM, message=message, facts={"who": "this server", "text": text})
        recorded.entries = [*recorded.entries, entry]
        return True
