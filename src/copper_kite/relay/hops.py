"""The next hops of a connector: which to try first, and which are known to be down.

A next hop that is down is left alone for a while, each time for longer, as `[retry]` says. While all of them are, the
connector is down: its mail waits, one attempt finds out when it is over, and then everything goes.
"""

from __future__ import annotations

import random
from collections.abc import Sequence
from dataclasses import dataclass

from copper_kite.errors import SessionFailed
from copper_kite.net.client import ClientSession, Plan
from copper_kite.net.dialogue import Dialogue
from copper_kite.net.opening import open_session
from copper_kite.relay.decide import Retry, backoff

__all__ = ["Down", "Hops"]


@dataclass(frozen=True, slots=True)
class Down:
    """A next hop, or a connector, that cannot be had: why, since when, until when it is left alone."""

    failure: SessionFailed
    since: float
    until: float
    failures: int


class Hops:
    """The plans of one connector, in order or `spread`. Instants in seconds since 1970."""

    def __init__(self, plans: Sequence[Plan], retry: Retry, *, spread: bool = False) -> None:
        self.plans = tuple(plans)
        self.spread = spread
        self._retry = retry
        self._down: dict[Plan, Down] = {}

    def down(self, now: float) -> Down | None:
        """Why none can be had now, with when the first of them is tried again; None when one may be tried."""
        downs = [self._down.get(plan) for plan in self.plans]
        if any(one is None or now >= one.until for one in downs):
            return None
        return min((one for one in downs if one is not None), key=lambda one: one.until)

    def order(self, now: float) -> list[Plan]:
        """Those to try now: first those that are not known to be down, then those whose time has come."""
        plans = random.sample(self.plans, len(self.plans)) if self.spread else list(self.plans)
        fit = [plan for plan in plans if plan not in self._down]
        return [*fit, *(plan for plan in plans if plan in self._down and now >= self._down[plan].until)]

    async def open(self, dialogue: Dialogue, now: float) -> ClientSession:
        """A session with the first that can be had (RFC 5321 5.1). Raises SessionFailed, the last one's."""
        failure: SessionFailed | None = None
        for plan in self.order(now):
            try:
                session = await open_session(plan, dialogue)
            except SessionFailed as error:
                failure = error
                failure.facts.setdefault("next_hop", f"{plan.host}:{plan.port}")
                self._failed(plan, error, now)
                continue
            self._down.pop(plan, None)
            return session
        assert failure is not None, "asked for a session while all are down"
        raise failure

    def _failed(self, plan: Plan, failure: SessionFailed, now: float) -> None:
        before = self._down.get(plan)
        failures = before.failures + 1 if before is not None else 1
        until = now + backoff(failures, self._retry, random.random())
        self._down[plan] = Down(failure, before.since if before is not None else now, until, failures)
