"""The hourly counts summed over all hours: counters that only grow and are cheap to read again."""

from __future__ import annotations

from collections import Counter, defaultdict
from dataclasses import dataclass, field

from copper_kite.store import Reader

__all__ = ["Sums", "Totals"]

HOUR = 3600.0
OPEN_HOURS = 24  # an attempt counts in the hour in which it began, and may last
MOST_REASONS = 50  # that have a count of their own
OTHER = "other"
FOREVER = 1 << 40  # hours


@dataclass(slots=True)
class Sums:
    """Recipients by outcome and connector; octets relayed by connector; recipients that did not get through by outcome
    and reason; and by connector those that were relayed, by the step of their delay (`store.DELAY_STEPS`)."""

    recipients: Counter[tuple[str, str]] = field(default_factory=Counter)
    octets: Counter[str] = field(default_factory=Counter)
    reasons: Counter[tuple[str, str]] = field(default_factory=Counter)
    delays: dict[str, Counter[int]] = field(default_factory=lambda: defaultdict(Counter))

    def copy(self) -> Sums:
        """Another one, that grows by itself."""
        delays = defaultdict(Counter, {name: Counter(steps) for name, steps in self.delays.items()})
        return Sums(Counter(self.recipients), Counter(self.octets), Counter(self.reasons), delays)


class Totals:
    """Sums up each hour once, but for those of the last day, which may still change."""

    def __init__(self) -> None:
        self._closed = Sums()
        self._until = 0  # the first hour that is not in it
        self._reasons: set[str] = set()

    def now(self, reader: Reader, now: float) -> Sums:
        """All counts; `now` in seconds since 1970. Raises StoreError."""
        begin = max(int(now // HOUR) - OPEN_HOURS, self._until)
        if begin > self._until:
            self._add(self._closed, reader, self._until, begin)
            self._until = begin
        sums = self._closed.copy()
        self._add(sums, reader, begin, FOREVER)
        return sums

    def _add(self, sums: Sums, reader: Reader, since: int, until: int) -> None:
        by = ("outcome", "connector", "reason", "delay")
        for outcome, connector, reason, step, count, octets in sorted(
            reader.summed_counts(since, until, by), key=lambda row: -row[-2]
        ):
            if outcome == "delay":
                sums.delays[connector][step] += count
                continue
            sums.recipients[outcome, connector] += count
            if outcome == "relayed":
                sums.octets[connector] += octets
            elif reason:
                sums.reasons[outcome, self._bounded(reason)] += count

    def _bounded(self, reason: str) -> str:
        """The reason, where there is room for one more; a next hop may make up as many codes as it likes."""
        if reason not in self._reasons and len(self._reasons) >= MOST_REASONS:
            return OTHER
        self._reasons.add(reason)
        return reason
