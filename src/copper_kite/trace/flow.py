"""How much mail flowed in the last hour and day."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from copper_kite.words import OUTCOMES

if TYPE_CHECKING:
    from copper_kite.store import Tally

__all__ = ["DAY", "HOURS", "Flow", "flow_of"]

DAY = 86400.0  # seconds
HOURS = 24


@dataclass(slots=True)
class Flow:
    """Recipients by outcome: in each of the last 24 hours, the oldest first, and by connector in the last one."""

    hours: dict[str, list[int]] = field(default_factory=lambda: {outcome: [0] * HOURS for outcome in OUTCOMES})
    relayed_by: Counter[str] = field(default_factory=Counter)

    def last_hour(self, outcome: str) -> int:
        """The 60 minutes that end with the present one."""
        return self.hours[outcome][-1]

    def last_day(self, outcome: str) -> int:
        """All 24 hours."""
        return sum(self.hours[outcome])


def flow_of(tallies: Iterable[Tally], now: float) -> Flow:
    """Sum counts by hours that are counted back from `now`; what is older, or later than it, is left out."""
    flow, present = Flow(), int(now) // 60
    for tally in tallies:
        back = (present - tally.minute) // 60
        if not 0 <= back < HOURS:
            continue
        flow.hours[tally.outcome][HOURS - 1 - back] += tally.recipients
        if tally.outcome == "relayed" and not back:
            flow.relayed_by[tally.connector] += tally.recipients
    return flow
