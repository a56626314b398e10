"""The next hops of a connector: which to try first, and which are known to be down.

A next hop that is down is left alone for a while, each time for longer, as `[retry]` says. While all of them are, the
connector is down: its mail waits, one attempt finds out when it is over, and then everything goes.
"""

from __future__ import annotations

import asyncio
import contextlib
import random
from collections.abc import Collection, Sequence
from dataclasses import dataclass, replace

from copper_kite.errors import SessionFailed
from copper_kite.net.client import ClientSession
from copper_kite.net.dialogue import Dialogue
from copper_kite.net.opening import open_session
from copper_kite.net.own import listens_at
from copper_kite.net.plan import Plan
from copper_kite.net.resolve import mail_exchangers, resolve
from copper_kite.net.tls import Sessions
from copper_kite.relay.decide import Retry, backoff
from copper_kite.routing.mx import mx_order
from copper_kite.settings.units import Endpoint
from copper_kite.words import Cause, Stage

__all__ = ["Down", "Hops", "MxHops"]

MX_SECONDS = 300.0  # for which mail exchangers are not looked up again


@dataclass(frozen=True, slots=True)
class Down:
    """A next hop, or a connector, that cannot be had: why, since when, until when it is left alone."""

    failure: SessionFailed
    since: float
    until: float
    failures: int


class Hops:
    """The plans of one connector, in order or `spread`. Instants in seconds since 1970.

    `proven` says that an administrator named them, and not DNS, whose answers nobody signs (RFC 8689 4.2.1).
    """

    proven = True

    def __init__(self, plans: Sequence[Plan], retry: Retry, *, spread: bool = False) -> None:
        self.plans = tuple(plans)
        self.spread = spread
        self._retry = retry
        self._earlier = Sessions()
        self._down: dict[Plan, Down] = {}
        self._looking: dict[Plan, asyncio.Task[None]] = {}

    def down(self, now: float) -> Down | None:
        """Why none can be had now, with when the first of them is tried again; None when one may be tried."""
        downs = [self._down.get(plan) for plan in self.plans]
        if not downs or any(one is None or now >= one.until for one in downs):
            return None
        return min((one for one in downs if one is not None), key=lambda one: one.until)

    def order(self, now: float) -> list[Plan]:
        """Those to try now: first those that are not known to be down, then those whose time has come.

        So no mail waits for one that does not answer, while there is another.
        """
        plans = random.sample(self.plans, len(self.plans)) if self.spread else list(self.plans)
        fit = [plan for plan in plans if plan not in self._down]
        return [*fit, *(plan for plan in plans if plan in self._down and now >= self._down[plan].until)]

    async def open(self, dialogue: Dialogue, now: float) -> ClientSession:
        """A session with the first that can be had (RFC 5321 5.1). Raises SessionFailed, the last one's."""
        failure: SessionFailed | None = None
        order = self.order(now)
        if order and order[0] not in self._down:
            self._look_again(now)
        for plan in order:
            try:
                session = await self._open(plan, dialogue)
            except SessionFailed as error:
                failure = error
                failure.facts.setdefault("next_hop", plan.where)
                self._failed(plan, error, now)
                continue
            self._down.pop(plan, None)
            return session
        assert failure is not None, "asked for a session while all are down"
        raise failure

    async def _open(self, plan: Plan, dialogue: Dialogue) -> ClientSession:
        """A session with one of them. A TLS that fails where it was to go on with an earlier one begins anew, once."""
        resuming = plan in self._earlier
        try:
            return await open_session(plan, dialogue, self._earlier)
        except SessionFailed as failure:
            if not resuming or failure.stage is not Stage.SECURE:
                raise
        dialogue.noted(asyncio.get_running_loop().time(), "no TLS with what is left of an earlier session: once more")
        return await open_session(plan, dialogue, self._earlier)

    def _look_again(self, now: float) -> None:
        """See, beside the mail, whether those whose time has come are back: then their turn is as it was."""
        for plan, down in self._down.items():
            if now >= down.until and plan not in self._looking:
                task = asyncio.get_running_loop().create_task(self._look(plan, now))
                self._looking[plan] = task
                task.add_done_callback(lambda _, plan=plan: self._looking.pop(plan))  # type: ignore[misc]

    async def _look(self, plan: Plan, now: float) -> None:
        try:
            session = await open_session(plan, Dialogue(asyncio.get_running_loop().time()))
        except SessionFailed as failure:
            self._failed(plan, failure, now)
            return
        self._down.pop(plan, None)
        await session.close()

    def stop(self) -> None:
        """Look no further."""
        for task in self._looking.values():
            task.cancel()

    def _failed(self, plan: Plan, failure: SessionFailed, now: float) -> None:
        before = self._down.get(plan)
        failures = before.failures + 1 if before is not None else 1
        until = now + backoff(failures, self._retry, random.random())
        self._down[plan] = Down(failure, before.since if before is not None else now, until, failures)


class MxHops(Hops):
    """The mail exchangers of one domain; `first` is the plan that each of them is met by.

    `own` are our own names, `listening` where we listen: a host that is found there is ourselves (RFC 5321 5.1).
    """

    proven = False

    def __init__(
        self, domain: str, first: Plan, retry: Retry, own: Collection[str], listening: Collection[Endpoint] = ()
    ) -> None:
        super().__init__((), retry)
        self.first = first
        self._domain = domain
        self._own = own
        self._listening = [endpoint for endpoint in listening if endpoint.port == first.port]
        self._looked_up = float("-inf")
        self._unknown: Down | None = None  # while DNS does not tell

    def down(self, now: float) -> Down | None:
        """As with named hosts; also while DNS does not tell who they are."""
        if self._unknown is not None and now < self._unknown.until:
            return self._unknown
        return super().down(now)

    async def open(self, dialogue: Dialogue, now: float) -> ClientSession:
        """A session with the first exchanger that can be had. Raises SessionFailed."""
        if not 0 <= now - self._looked_up < MX_SECONDS:
            await self._look_up(dialogue, now)
        return await super().open(dialogue, now)

    async def _ourselves(self, hosts: Sequence[str]) -> list[str]:
        """Those of `hosts` that lead back here."""
        first, found = self.first, []
        for host in hosts if self._listening else ():
            with contextlib.suppress(SessionFailed):  # a host without an address is nobody, us included
                addresses = await resolve(host, first.port, first.timeouts.resolve, first.dns)
                if any(listens_at(address, first.port, self._listening) for address in addresses):
                    found.append(host)
        return found

    async def _look_up(self, dialogue: Dialogue, now: float) -> None:
        first = self.first
        try:
            records = await mail_exchangers(self._domain, first.timeouts.resolve, first.dns)
            own = {*self._own, *await self._ourselves([host for _, host in records] or [self._domain])}
            hosts = mx_order(self._domain, records, own)
        except SessionFailed as failure:
            dialogue.noted(asyncio.get_running_loop().time(), failure.text)
            if failure.cause is Cause.NAME_LOOKUP_FAILED:
                failures = self._unknown.failures + 1 if self._unknown is not None else 1
                since = self._unknown.since if self._unknown is not None else now
                until = now + backoff(failures, self._retry, random.random())
                self._unknown = Down(failure, since, until, failures)
            raise
        dialogue.noted(asyncio.get_running_loop().time(), f"{self._domain} is taken by {', '.join(hosts)}")
        self._unknown, self._looked_up = None, now
        self.plans = tuple(replace(first, host=host) for host in hosts)
