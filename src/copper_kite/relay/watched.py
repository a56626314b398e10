"""The clock of a running server: it notices when the machine's clock is set, before anything is computed with that.

Instants are by the wall clock, which may be set at any time; what was computed from it before that (when to try again,
when a lifetime ends) is then wrong by as much. Components that keep such instants are told of each step and shift them.
"""

from __future__ import annotations

from collections.abc import Callable

from copper_kite.clock import Clock

__all__ = ["STEP_SECONDS", "WatchedClock"]

STEP_SECONDS = 5.0  # from which on it is a step; less is how a clock that is kept right goes


class WatchedClock:
    """`clock`, watched. `stepped` is called with by how many seconds it was set, and what it showed before."""

    def __init__(self, clock: Clock) -> None:
        self._clock = clock
        self._read = clock.now
        self._apart = clock.apart()
        self._last = clock.now()
        self.stepped: Callable[[float, float], object] = lambda by, before: None

    def now(self) -> float:
        """Seconds since 1970-01-01 UTC."""
        now = self._read()
        if not 0.0 <= now - self._last < STEP_SECONDS:  # it was set, or nobody has looked for long
            self.look()
        self._last = now
        return now

    def look(self) -> None:
        """Compare the two clocks; to be called every second or so, so that drift never adds up to a step."""
        apart = self._clock.apart()
        by, self._apart = apart - self._apart, apart
        if not -STEP_SECONDS < by < STEP_SECONDS:
            self._last = self._read()
            self.stepped(by, self._last - by)

    def steady(self) -> float:
        """Seconds of a clock that is never set."""
        return self._clock.steady()

    def apart(self) -> float:
        """The difference of the two clocks."""
        return self._clock.apart()

    def real_delay(self, until: float) -> float:
        """Seconds of the machine until `until`."""
        return self._clock.real_delay(until)
