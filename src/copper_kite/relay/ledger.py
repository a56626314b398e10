"""The use of a connector's allowances: a count for each period, initialised from the store."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from copper_kite.settings import NEARLY, Allowance

__all__ = ["Ledger"]


class Ledger:
    """Counts recipients: those relayed, and those on their way.

    `relayed_since` tells how many left since an instant. Where several servers share an allowance, `reserve` gets this
    one a part of it (see `store.ServerReads.reserve`), which is all that it may relay.
    """

    def __init__(
        self,
        allowances: Sequence[Allowance],
        relayed_since: Callable[[float], int],
        reserve: Callable[[str, float, int, int], int | None] = lambda allowance, since, most, count: None,
    ) -> None:
        self.allowances = list(allowances)
        self._relayed_since = relayed_since
        self._reserve = reserve
        self._reserved: dict[Allowance, int] = {}  # in the present period, by a server that shares them
        self._windows: dict[Allowance, tuple[float, float]] = {}
        self._used: dict[Allowance, int] = {}
        self._on_their_way = 0
        # Of which it was told that little is left: in the period that began then.
        self._told: dict[Allowance, float] = {}

    def _turn(self, now: float) -> None:
        """Begin the periods that `now` is in; a clock set back begins the earlier one again, as it was."""
        for allowance in self.allowances:
            begin, end = self._windows.get(allowance, (now, now))
            if not begin <= now < end:
                window = self._windows[allowance] = allowance.window(now)
                granted = self._reserve(str(allowance), window[0], allowance.count, 1)
                if granted is None:
                    self._used[allowance] = self._relayed_since(window[0])
                else:
                    self._used[allowance], self._reserved[allowance] = 0, granted

    def full_until(self, count: int, now: float) -> tuple[Allowance, float] | None:
        """The allowance that has no room for `count` recipients, the one that lasts longest, and until when.

        One message with more recipients than a whole period allows may go in a period that is still unused.
        """
        self._turn(now)
        full = [a for a in self.allowances if not self._has_room(a, count)]
        longest = max(full, key=lambda allowance: self._windows[allowance][1], default=None)
        return None if longest is None else (longest, self._windows[longest][1])

    def _has_room(self, allowance: Allowance, count: int) -> bool:
        used = self._used[allowance]
        if allowance not in self._reserved:
            return not used or used + count <= allowance.count
        missing = used + self._on_their_way + count - self._reserved[allowance]
        if missing > 0:
            since = self._windows[allowance][0]
            self._reserved[allowance] += self._reserve(str(allowance), since, allowance.count, missing) or 0
        return used + count <= self._reserved[allowance]

    def crowded(self, count: int) -> bool:
        """Whether `count` recipients have to wait for what becomes of those that are on their way."""
        # What is on its way is counted as used until its outcome is known: so no more than the allowance leaves,
        # whatever the replies are. Where that alone fills it, the next one waits for an outcome, and not for the next
        # period.
        taken = self._on_their_way
        return any(taken and self._used[a] + taken + count > self._reserved.get(a, a.count) for a in self.allowances)

    def take(self, count: int) -> None:
        """`count` recipients set out."""
        self._on_their_way += count

    def settle(self, count: int, relayed: int) -> None:
        """Of `count` that set out, so many were relayed; the others take no room."""
        self._on_their_way = max(self._on_their_way - count, 0)  # some set out before a reload
        for allowance in self.allowances:
            self._used[allowance] = self._used.get(allowance, 0) + relayed

    def nearly_used(self) -> list[tuple[Allowance, int]]:
        """The allowances of which little is left, with what has left; each once in its period."""
        results = []
        for allowance, (begin, _) in self._windows.items():
            used = self._used[allowance]
            if used >= NEARLY * allowance.count and self._told.get(allowance) != begin:
                self._told[allowance] = begin
                results.append((allowance, used))
        return results
