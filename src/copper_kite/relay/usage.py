"""How much each sender of the moment has submitted: counted by the hour, and kept with the queue."""

from __future__ import annotations

import math
from collections import OrderedDict
from collections.abc import Callable, Iterable

from copper_kite.errors import StoreAway

__all__ = ["HOUR", "Usage"]

HOUR = 3600
LOOK_BACK = 14 * 24  # hours of history that count
MAX_SENDERS = 5000  # in memory; the others are read again when they come


class Usage:
    """Recipients by sender and hour. `history` reads (hour, count) of one sender since an hour; an hour is that many
    times 3600 s since 1970. What was read counts for so many seconds: others may count as well."""

    def __init__(self, history: Callable[[str, int], Iterable[tuple[int, int]]], read_again: float = math.inf) -> None:
        self._history = history
        self._read_again = read_again
        self._known: OrderedDict[str, dict[int, int]] = OrderedDict()
        self._read_at: dict[str, float] = {}

    def _read(self, who: str, now: float) -> dict[int, int]:
        try:
            return dict(self._history(who, int(now) // HOUR - LOOK_BACK))
        except StoreAway:  # what is known here counts until others can be asked
            return self._known.get(who, {})

    def _hours(self, who: str, now: float) -> dict[int, int]:
        hours = self._known.get(who)
        if hours is not None and now - self._read_at[who] > self._read_again:
            hours = None
        if hours is None:
            if len(self._known) >= MAX_SENDERS and who not in self._known:
                del self._read_at[self._known.popitem(last=False)[0]]
            self._read_at[who] = now
            hours = self._known[who] = self._read(who, now)
        return hours

    def since(self, who: str, begin: float, now: float) -> int:
        """How many since `begin` (seconds since 1970, at the turn of an hour)."""
        first = int(begin) // HOUR
        return sum(count for hour, count in self._hours(who, now).items() if hour >= first)

    def this_hour(self, who: str, now: float) -> int:
        """How many in the hour that `now` is in."""
        return self._hours(who, now).get(int(now) // HOUR, 0)

    def busiest(self, who: str, now: float) -> int:
        """The most in any hour of the last two weeks but this one."""
        this = int(now) // HOUR
        return max(
            (count for hour, count in self._hours(who, now).items() if this - LOOK_BACK <= hour < this), default=0
        )

    def took(self, who: str, count: int, hour: int) -> None:
        """So many recipients were taken in that hour."""
        hours = self._known.get(who)
        if hours is None:
            hours = self._hours(who, hour * HOUR)
        if hour in hours:
            hours[hour] += count
            return
        hours[hour] = count
        for old in [old for old in hours if old < hour - LOOK_BACK]:
            del hours[old]
