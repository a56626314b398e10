"""The next hops of a connector: which to try first, and which are known to be down.

A next hop that is down is left alone for a while, each time for longer, as `[retry]` says. While all of them are, the
connector is down: its mail waits, one attempt finds out when it is over, and then everything goes.
"""

from __future__ import annotations

import asyncio
import contextlib
import random
from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import takewhile
from typing import NamedTuple

from copper_kite.net import (
    AddressMemory,
    Dialogue,
    PassedOver,
    Plan,
    SessionFailed,
    Sessions,
    SessionSeen,
    StsPolicies,
    StsPolicy,
    Tried,
    demanded,
    listens_at,
    may_tell_more,
)
from copper_kite.relay.decide import Retry, backoff
from copper_kite.relay.network import Network, Session
from copper_kite.routing import LOOP, mx_order
from copper_kite.settings import Endpoint
from copper_kite.words import Cause, Stage

__all__ = ["Down", "Hops", "MxHops", "literal_address"]

LOOK_SECONDS = 3600.0  # for which a second look at a next hop is not repeated
MX_SECONDS = 300.0  # for which mail exchangers are not looked up again
CERTIFICATE_SECONDS = 7 * 86400.0  # after which an unchanged certificate is reported again


@dataclass(frozen=True, slots=True)
class Down:
    """A next hop, or a connector, that is unreachable: why, since when, and when it is tried again."""

    failure: SessionFailed
    since: float
    until: float
    failures: int

    def passed_over(self, plan: Plan) -> PassedOver:
        """The note in the record of an attempt that used another next hop."""
        failure = self.failure
        return PassedOver(plan.where, failure.seen.address, failure.stage, failure.cause, failure.said, self.since)

    def shifted(self, by: float) -> Down:
        """The same after the clock was set by so many seconds."""
        return replace(self, since=self.since + by, until=self.until + by)


class _Look(NamedTuple):
    """The result of a second look, its time, and the stage and cause of the failure."""

    at: float
    before: tuple[Stage, Cause]
    found: SessionFailed


_SILENCE = (Stage.GREET, Cause.TIMED_OUT)
Told = Callable[[Plan, Down | None], None]  # of a next hop that went down, or with None is back


def _words_of(error: Exception) -> str:
    return f"{type(error).__name__}: {error}"


def _tell_nobody(plan: Plan, down: object) -> None:
    """Exchangers found by DNS are not reported: there are too many, and they are not configured here."""


class Hops:
    """The plans of one connector, in order or `spread`. `now` gives seconds since 1970, as all instants are.

    `proven` says that an administrator named them, and not DNS, whose answers nobody signs (RFC 8689 4.2.1). `fault`
    notes an unexpected exception and returns a description; `told` is called when one goes down or is back;
    `shown` gets the certificate of each, in DER, when it has changed, and once a week.
    """

    proven = True

    def __init__(
        self,
        plans: Sequence[Plan],
        retry: Retry,
        now: Callable[[], float],
        *,
        spread: bool = False,
        dane: bool = False,
        fault: Callable[[Exception], str] = _words_of,
        told: Told = _tell_nobody,
        shown: Callable[[Plan, bytes], None] = _tell_nobody,
        network: Network | None = None,
    ) -> None:
        self._network = network or Network()
        self.plans = tuple(plans)
        self.spread = spread
        self._dane = dane  # whether TLSA records of the hosts count
        self._retry = retry
        self._now = now
        self._fault = fault
        self._told = told
        self._shown = shown
        self._certificates: dict[Plan, tuple[bytes, float]] = {}  # as they were reported, and when
        self._earlier = Sessions()
        self._memories: dict[Plan, AddressMemory] = {}
        self._down: dict[Plan, Down] = {}
        self._looks: dict[Plan, _Look] = {}
        self._looking: dict[Plan, asyncio.Task[None]] = {}

    def down(self, now: float) -> Down | None:
        """Why none is reachable, and when the first of them is tried again; None when one may be tried now."""
        if not self._down:
            return None
        downs = [self._down.get(plan) for plan in self.plans]
        if not downs or any(item is None or now >= item.until for item in downs):
            return None
        return min((item for item in downs if item is not None), key=lambda down: down.until)

    @property
    def all_down(self) -> Mapping[Plan, Down]:
        """The hosts that are known to be down."""
        return self._down

    @property
    def any_fit(self) -> bool:
        """Whether one of them is not known to be down, nor on trial after that."""
        return bool(self.plans) if not self._down else any(plan not in self._down for plan in self.plans)

    def order(self, now: float) -> list[Plan]:
        """The hosts to try now: first those that are not known to be down, then those whose time has come.

        So no mail waits for one that does not answer, while there is another. When all of them are down, one attempt
        tries them all: then there are no more attempts than the waits allow, however many next hops there are.
        """
        plans = random.sample(self.plans, len(self.plans)) if self.spread else list(self.plans)
        fit = [plan for plan in plans if plan not in self._down] if self._down else []
        if not fit:  # all of them are alike
            return plans
        return [*fit, *(plan for plan in plans if plan in self._down and now >= self._down[plan].until)]

    async def open(self, dialogue: Dialogue) -> Session:
        """A session with the first that is reachable (RFC 5321 5.1). Raises SessionFailed, the last one's.

        Each that is unreachable counts as down from then on.
        """
        # One attempt goes through all that may be tried, in order, and is recorded once, with each of them in
        # `tried`. Those that fail count as down at once, for all lanes' sessions of this connector; the message
        # itself is delayed only when none is left.
        failure: SessionFailed | None = None
        tried: list[Tried] = []
        order = self.order(self._now())
        self.look_again()
        for plan in order:
            try:
                session = await self._open(plan, dialogue)
            except SessionFailed as error:
                failure = error = await self._understood(plan, error)
                alone = Tried(plan.where, error.seen.address, error.stage, error.cause, error.said)
                tried += error.seen.tried or [alone]
                failure.seen = replace(
                    failure.seen,
                    next_hop=failure.seen.next_hop or plan.where,
                    tried=tuple(tried),
                    passed_over=self._passed_over(plan, order),
                )
                self.failed(plan, error)
                continue
            session.tried = [*tried, *session.tried]
            session.passed_over = self._passed_over(plan)
            return session
        if failure is None:  # all of them went down since the lane looked
            down = self.down(self._now())
            raise (
                down.failure if down is not None else SessionFailed(Stage.RESOLVE, Cause.NAME_NOT_FOUND, "no next hop")
            )
        raise failure

    async def _understood(self, plan: Plan, failure: SessionFailed) -> SessionFailed:
        """A failure as a second session explains it; one is made once in a while, and its result is reused."""
        if not may_tell_more(plan, failure):
            return failure
        now, before = self._now(), (failure.stage, failure.cause)
        result = self._found_lately(plan, before)
        if result is None:
            try:
                result = await self._network.explain(plan, failure)
            except Exception as error:  # of ours: the mail goes by what is known without it
                self._fault(error)
                return failure
            self._looks[plan] = _Look(now, before, result)
        tried = [
            item._replace(cause=result.cause, said=result.said) if (item.stage, item.cause) == before else item
            for item in failure.seen.tried
        ]
        seen = replace(failure.seen, tried=tried)
        return SessionFailed(result.stage, result.cause, result.text, result.reply, seen)

    async def open_extra(self, dialogue: Dialogue) -> Session:
        """Open one more session, beside others, with the host that is first now.

        Raises SessionFailed: that says nothing of the next hop, which works.
        """
        plan = self.order(self._now())[0]
        session = await self._open(plan, dialogue)
        session.passed_over = self._passed_over(plan)
        return session

    def _passed_over(self, plan: Plan, tried: Collection[Plan] = ()) -> tuple[PassedOver, ...]:
        """The next hops that are down and come before `plan`, or with it where there is no order; but not those that
        were `tried` just now."""
        if not self._down:
            return ()
        before = self.plans if self.spread or tried else takewhile(lambda other: other != plan, self.plans)
        return tuple(self._down[item].passed_over(item) for item in before if item in self._down and item not in tried)

    async def _open(self, plan: Plan, dialogue: Dialogue) -> Session:
        looked = self._found_lately(plan, _SILENCE)
        if (memory := self._memories.get(plan)) is None:
            memory = self._memories[plan] = AddressMemory()
        try:
            demands = await self._with_policy(plan)
            session = await self._network.open(demands, dialogue, self._earlier, memory, looked)
            session.hop = plan
        except SessionFailed as failure:
            if failure.cause is Cause.SPEAKS_TLS and looked is None:
                self._looks[plan] = _Look(self._now(), _SILENCE, failure)
            raise
        except Exception as error:
            text = self._fault(error)
            dialogue.noted(asyncio.get_running_loop().time(), text)
            raise SessionFailed(Stage.CONNECT, Cause.INTERNAL, text, seen=SessionSeen(next_hop=plan.where)) from error
        if session.chain:
            self._report_certificate(plan, session.chain[0])
        return session

    async def _with_policy(self, plan: Plan) -> Plan:
        """The plan with what the policy of its host demands. Raises SessionFailed."""
        return await demanded(plan, (), None, dane=True) if self._dane else plan

    def _report_certificate(self, plan: Plan, certificate: bytes) -> None:
        now = self._now()
        known, at = self._certificates.get(plan, (b"", 0.0))
        if certificate != known or now - at > CERTIFICATE_SECONDS:
            self._certificates[plan] = certificate, now
            self._shown(plan, certificate)

    def _found_lately(self, plan: Plan, before: tuple[Stage, Cause]) -> SessionFailed | None:
        """The result of a second look at a failure with this stage and cause, unless it is too old."""
        known = self._looks.get(plan) if self._looks else None
        if known is None or known.before != before or not 0 <= self._now() - known.at < LOOK_SECONDS:
            return None
        return known.found

    def has_better(self, plan: Plan) -> bool:
        """Whether one that comes before `plan` is up: then mail goes there again."""
        if self.spread or plan is self.plans[0]:
            return False
        return any(other not in self._down for other in takewhile(lambda other: other != plan, self.plans))

    def look_again(self) -> None:
        """See, beside the mail, whether those whose time has come are back: then their turn is as it was."""
        if not self._down or not self.any_fit:
            return  # without another that works, the mail itself finds out
        now = self._now()
        for plan, down in self._down.items():
            if now >= down.until and plan not in self._looking:
                task = asyncio.get_running_loop().create_task(self._look(plan))
                self._looking[plan] = task
                task.add_done_callback(lambda _, plan=plan: self._looking.pop(plan))  # type: ignore[misc]

    async def _look(self, plan: Plan) -> None:
        try:
            session = await self._open(plan, Dialogue(asyncio.get_running_loop().time()))
        except SessionFailed as failure:
            self.failed(plan, failure)
            return
        self.worked(plan)
        await session.close()

    def stop(self) -> None:
        """Look no further."""
        for task in self._looking.values():
            task.cancel()

    def worked(self, plan: Plan) -> bool:
        """A session with this one carried something; whether it was known to be down."""
        if not self._down or self._down.pop(plan, None) is None:
            return False
        self._looks.pop(plan, None)
        self._told(plan, None)
        return True

    def try_again(self, now: float) -> None:
        """Try the hosts that are down with the next mail."""
        self._down = {plan: replace(down, until=min(down.until, now)) for plan, down in self._down.items()}

    def clock_stepped(self, by: float) -> None:
        """The clock was set by so many seconds: those that are down stay so for as long as they were to."""
        self._down = {plan: down.shifted(by) for plan, down in self._down.items()}

    def failed(self, plan: Plan, failure: SessionFailed) -> None:
        """Mark a host as unreachable: it is not tried for a while, longer each time."""
        # `since` is when it first failed, and stays so until a session works: that is what people are told. The wait
        # grows with each failure in a row, and has jitter, so that many servers do not come back at the same moment.
        now, before = self._now(), self._down.get(plan)
        failures = before.failures + 1 if before is not None else 1
        until = now + backoff(failures, self._retry, random.random())
        self._down[plan] = Down(failure, before.since if before is not None else now, until, failures)
        if before is None:
            self._told(plan, self._down[plan])


def literal_address(domain: str) -> str | None:
    """The address in a domain that is an address literal, in lower case (RFC 5321 4.1.3); None for any other."""
    return domain[1:-1].removeprefix("ipv6:") if domain.startswith("[") else None


class MxHops(Hops):
    """The mail exchangers of one domain; `first` is the plan that each of them is met by.

    `own` are our own names, `listening` where we listen: a host that is found there is ourselves (RFC 5321 5.1).
    """

    proven = False

    def __init__(
        self,
        domain: str,
        first: Plan,
        retry: Retry,
        now: Callable[[], float],
        own: Collection[str],
        listening: Collection[Endpoint] = (),
        *,
        fault: Callable[[Exception], str] = _words_of,
        policies: StsPolicies | None = None,
        dane: bool = False,
        network: Network | None = None,
    ) -> None:
        super().__init__((), retry, now, fault=fault, dane=dane, network=network)
        self._policies = policies
        self._sts: StsPolicy | None = None
        self._sts_problem = ""  # why no newer policy could be had
        self._secure = False  # whether DNSSEC vouches for the names of the exchangers
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

    def try_again(self, now: float) -> None:
        """As with named hosts; and DNS is asked anew."""
        self._unknown, self._looked_up = None, float("-inf")
        super().try_again(now)

    async def open(self, dialogue: Dialogue) -> Session:
        """A session with the first exchanger that is reachable. Raises SessionFailed."""
        if not 0 <= self._now() - self._looked_up < MX_SECONDS:
            try:
                hosts = await self._look_up()
            except SessionFailed as failure:
                self._not_looked_up(failure, dialogue)
                raise
            except Exception as error:
                ours = SessionFailed(Stage.RESOLVE, Cause.INTERNAL, self._fault(error))
                self._not_looked_up(ours, dialogue)
                raise ours from error
            dialogue.noted(asyncio.get_running_loop().time(), f"{self._domain} is taken by {', '.join(hosts)}")
            if self._sts_problem:
                dialogue.noted(asyncio.get_running_loop().time(), f"MTA-STS: {self._sts_problem}")
            self._unknown, self._looked_up = None, self._now()
            self.plans = tuple(replace(self.first, host=host) for host in hosts)
        return await super().open(dialogue)

    async def _ourselves(self, hosts: Sequence[str]) -> list[str]:
        """The members of `hosts` that lead back here."""
        first, result = self.first, []
        for host in hosts if self._listening else ():
            with contextlib.suppress(SessionFailed):  # a host without an address is nobody, us included
                addresses = await self._network.addresses(host, first)
                if any(listens_at(address, first.port, self._listening) for address in addresses):
                    result.append(host)
        return result

    async def _look_up(self) -> list[str]:
        """The hosts to try, in order. Raises SessionFailed."""
        first = self.first
        if (address := literal_address(self._domain)) is not None:  # no name, so DNS is not asked
            if await self._ourselves([address]):
                raise SessionFailed(Stage.RESOLVE, Cause.MAIL_LOOP, f"{self._domain} is this server itself", LOOP)
            return [address]
        records, self._secure = await self._network.exchangers(self._domain, first)
        own = {*self._own, *await self._ourselves([host for _, host in records] or [self._domain])}
        hosts = mx_order(self._domain, records, own)
        if self._policies is not None and first.tls != "off":
            self._sts, self._sts_problem = await self._policies.find(self._domain, first.timeouts.resolve)
        return self._allowed(hosts)

    def _allowed(self, hosts: list[str]) -> list[str]:
        """The hosts that an MTA-STS policy allows. Raises SessionFailed."""
        if self._sts is None or self._sts.mode != "enforce":
            return hosts
        allowed = [host for host in hosts if self._sts.allows(host)]
        if not allowed:
            text = f"the MTA-STS policy of {self._domain} allows none of its hosts ({', '.join(hosts)})"
            raise SessionFailed(Stage.RESOLVE, Cause.STS_NO_HOST, text)
        return allowed

    async def _with_policy(self, plan: Plan) -> Plan:
        """By DANE where DNSSEC vouches for the way from the domain to the host (RFC 7672 2.2.1), and by MTA-STS."""
        return await demanded(plan, (self._domain,), self._sts, dane=self._dane and self._secure)

    def clock_stepped(self, by: float) -> None:
        """The clock was set by so many seconds."""
        super().clock_stepped(by)
        self._unknown = None if self._unknown is None else self._unknown.shifted(by)

    def _not_looked_up(self, failure: SessionFailed, dialogue: Dialogue) -> None:
        """Remember a failed lookup, and ask again later; unless it is DNS's final word on the domain."""
        dialogue.noted(asyncio.get_running_loop().time(), failure.text)
        if failure.cause.final:
            return
        now, before = self._now(), self._unknown
        failures = before.failures + 1 if before is not None else 1
        since = before.since if before is not None else now
        until = now + backoff(failures, self._retry, random.random())
        self._unknown = Down(failure, since, until, failures)
