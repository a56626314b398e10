"""When what waits in the store becomes late, or its lifetime ends: its lane may not move, and its sender is to be told.

What waits is looked through in the order in which it came, which is that of its deadlines; so nothing is kept in memory
but how far that went. Messages that live longer than those of today are kept apart.
"""

from __future__ import annotations

import asyncio
import math
from collections.abc import Callable, Sequence
from heapq import heappop, heappush

from copper_kite.clock import Clock
from copper_kite.relay.supervisor import Supervisor

__all__ = ["Deadlines"]

PORTION = 200  # messages looked at in one go
FEW = 10  # the same, as long as not all of so many are overdue
SOON_SECONDS = 1.0
AGAIN_SECONDS = 1.0  # after a look that failed
LONGEST_SECONDS = 60.0  # from one look to the next, as long as anything waits


class Deadlines:
    """`ages` gives messages that wait after an id, in their order: (id, arrived, expires); `overdue` gets the ids of
    those whose time has come. Instants are seconds since 1970."""

    def __init__(
        self,
        clock: Clock,
        supervisor: Supervisor,
        ages: Callable[[int, int], Sequence[tuple[int, float, float]]],
        overdue: Callable[[Sequence[int]], None],
    ) -> None:
        self._clock = clock
        self._supervisor = supervisor
        self._ages = ages
        self._overdue = overdue
        self._late_from = self._expired_from = 0  # ids up to which all is done
        self._long_lived: list[tuple[float, int]] = []  # a heap: when, and which
        self._portion = FEW
        self._timer: asyncio.TimerHandle | None = None
        self._next = math.inf  # when the first that is known becomes overdue
        self._ended = False

    def take_up(self, late_at: Callable[[float, float], float], lifetime: float) -> None:
        """Use these settings: `late_at` computes from `arrived` and `expires` when a notice of delay is due."""
        self._late_at, self._lifetime = late_at, lifetime

    def passed(self, arrived: float, expires: float, now: float) -> bool:
        """Whether a message is late, or its lifetime is over."""
        return expires <= now or self._late_at(arrived, expires) <= now

    def arm(self) -> None:
        """Something waits: see to it in time."""
        if self._timer is None and not self._ended:
            self._timer = self._supervisor.later(SOON_SECONDS, self._timer_over)

    def start_over(self) -> None:
        """Look again at the messages that were skipped."""
        self._late_from = self._expired_from = 0
        self._long_lived.clear()
        if self._timer is not None:
            self._timer.cancel()
            self._timer = None
        self.arm()

    def look(self) -> None:
        """Hand on what has become overdue, and see when the next will."""
        if self._timer is not None:
            self._timer.cancel()
            self._timer = None
        now = self._clock.now()
        self._next = now + AGAIN_SECONDS  # where the look fails
        try:
            self._next = self._look(now)
        finally:
            if self._next < math.inf and not self._ended:
                delay = min(max(self._next - now, 0.0) + 0.001, LONGEST_SECONDS)
                self._timer = self._supervisor.later(delay, self._timer_over)

    def _timer_over(self) -> None:
        self._timer = None  # whatever is raised here, it can be armed again
        self.look()

    def glance(self, now: float) -> None:
        """Look, if it is time."""
        if now >= self._next:
            self.look()

    def end(self) -> None:
        """Look no more."""
        self._ended = True
        if self._timer is not None:
            self._timer.cancel()

    def _look(self, now: float) -> float:
        """When to look at the next one."""
        late, then = self._late(now)
        expired, other = self._expired(now)
        self._portion = PORTION if now in (then, other) else FEW
        while self._long_lived and self._long_lived[0][0] <= now:
            expired.append(heappop(self._long_lived)[1])
        if overdue := sorted({*late, *expired}):
            self._overdue(overdue)
        return min(then, other, self._long_lived[0][0] if self._long_lived else math.inf)

    def _late(self, now: float) -> tuple[list[int], float]:
        """The messages that have become late, and when to look again."""
        ids: list[int] = []
        rows = self._ages(self._late_from, self._portion)
        for id, arrived, expires in rows:
            at = self._late_at(arrived, expires)
            if at > now:
                return ids, at
            ids.append(id)
            self._late_from = id
        return ids, now if len(rows) == self._portion else math.inf

    def _expired(self, now: float) -> tuple[list[int], float]:
        """Whose lifetime is over, and when to look again."""
        ids: list[int] = []
        rows = self._ages(self._expired_from, self._portion)
        for id, arrived, expires in rows:
            if expires <= now:
                ids.append(id)
            elif expires - arrived > self._lifetime + 1.0:
                heappush(self._long_lived, (expires, id))
            else:
                return ids, expires
            self._expired_from = id
        return ids, now if len(rows) == self._portion else math.inf
