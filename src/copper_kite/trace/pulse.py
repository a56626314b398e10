"""The last minutes in numbers: how much came in, left, waits and failed, and the last reply."""

from __future__ import annotations

from collections import Counter, deque
from collections.abc import Iterable

from copper_kite.trace.linemap import Entry

__all__ = ["COUNTED", "Pulse"]

COUNTED = ("accepted", "relayed", "delayed", "failed")
MAX_REMEMBERED = 100_000


class Pulse:
    """Counts entries of the last `seconds`, and remembers the `latest` that are about a recipient."""

    def __init__(self, seconds: float = 60.0, latest: int = 10) -> None:
        self.seconds = seconds
        self.latest: deque[Entry] = deque(maxlen=latest)
        self._recent: deque[tuple[float, str]] = deque(maxlen=MAX_REMEMBERED)

    def add(self, entries: Iterable[Entry], now: float) -> None:
        """Take what happened; `now` in seconds since 1970 is for what tells no time."""
        for entry in entries:
            if entry.outcome in COUNTED:
                self._recent.append((now if entry.at is None else entry.at, entry.outcome))
            if entry.recipient and entry.outcome in COUNTED:
                self.latest.append(entry)

    def counts(self, now: float) -> dict[str, int]:
        """How many of each in the last `seconds`: messages accepted, recipients else."""
        while self._recent and self._recent[0][0] <= now - self.seconds:
            self._recent.popleft()
        result = Counter(word for _, word in self._recent)
        return {word: result[word] for word in COUNTED}
