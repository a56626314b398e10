"""How fast messages may come: who is faster waits, and is refused only where the wait would be long."""

from __future__ import annotations

from collections.abc import Callable

from copper_kite.settings import Pace

__all__ = ["Paces"]

MAX_PACED = 10_000  # of whom it is kept in mind when the next message may come
BURST_SECONDS = 1.0  # what may come at once


class Paces:
    """When the next message of each sender may come. `steady` gives seconds of a clock that is never set."""

    def __init__(self, steady: Callable[[], float]) -> None:
        self._steady = steady
        self._due: dict[str, float] = {}

    def wait(self, who: str, pace: Pace, longest: float) -> float | None:
        """The seconds that the next message has to wait, with its place reserved; None where that is longer than
        `longest`, without a place."""
        now = self._steady()
        if len(self._due) > MAX_PACED:
            self._due = {other: due for other, due in self._due.items() if due > now}
        due = max(self._due.get(who, 0.0), now - max(BURST_SECONDS, pace.interval))
        if due - now > longest:
            return None
        self._due[who] = due + pace.interval
        return max(due - now, 0.0)
