"""A clock on which a day passes in seconds, and that then goes on with the machine's own time."""

from __future__ import annotations

import time

__all__ = ["DAY", "DayClock"]

DAY = 86400.0  # seconds


class DayClock:
    """Shows the day that ends when it has run for `seconds`; from then on it is the machine's clock.

    So everything recorded on it lies in the past once the day is over, and ages and next tries are true.
    """

    def __init__(self, seconds: float) -> None:
        self._began = time.monotonic()
        self._seconds = seconds
        self.end = time.time() + seconds
        self.start = self.end - DAY
        self._speed = DAY / seconds

    def now(self) -> float:
        """Seconds since 1970 on this clock."""
        passed = time.monotonic() - self._began
        if passed < self._seconds:
            return self.start + passed * self._speed
        return self.end + passed - self._seconds

    def steady(self) -> float:
        """Never set."""
        return self.now()

    def apart(self) -> float:
        """Never set."""
        return 0.0

    def real_delay(self, until: float) -> float:
        """How long to sleep until the clock shows `until`."""
        now = self.now()
        if until <= now:
            return 0.0
        fast = max(min(until, self.end) - now, 0.0)
        return fast / self._speed + max(until - max(now, self.end), 0.0)
