"""The number of sessions that a connector may have open at once, adapted to what its next hop accepts.

Many servers refuse a session when there are too many of them, and say nowhere how many that is. So the number is found
by trying: a refusal lowers it by a share, quiet time raises it by one (additive increase, multiplicative decrease).
"""

from __future__ import annotations

__all__ = ["Concurrency"]

KEPT_SHARE = 0.75  # of the sessions at work when one more was refused
RAISE_SECONDS = 30.0  # without a refusal, until one more is tried
LONGEST_RAISE_SECONDS = 480.0  # the same, where the number found is refused to be exceeded again and again


class Concurrency:
    """The number in use, from 1 to `most`. Instants in seconds of any one clock."""

    def __init__(self, most: int) -> None:
        self.most = most
        self._limit = most
        self._found = most  # what the last refusal left
        self._wait = RAISE_SECONDS
        self._raise_at = float("inf")

    def allowed(self, now: float) -> int:
        """How many sessions there may be now."""
        while now >= self._raise_at:
            self._limit += 1
            self._raise_at = self._raise_at + self._wait if self._limit < self.most else float("inf")
        return self._limit

    def refused(self, at_work: int, now: float) -> bool:
        """Count a refused session while `at_work` others carried messages; whether this limit is news."""
        # How many sessions a next hop takes is nowhere announced, and may change with the hour. It is searched as
        # congestion control does: down by a share when one is refused, up by one after a while; the while doubles
        # each time the same limit is met again, so that a host with a fixed limit is bothered ever more rarely.
        before = self._found
        self._limit = self._found = max(1, min(self._limit, int(at_work * KEPT_SHARE)))
        again = self._found >= before < self.most
        self._wait = min(2 * self._wait, LONGEST_RAISE_SECONDS) if again else RAISE_SECONDS
        self._raise_at = now + self._wait if self._limit < self.most else float("inf")
        return not again

    def next_raise(self) -> float:
        """When one more may be tried; infinite when none is held back."""
        return self._raise_at
