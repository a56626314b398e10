"""A probe of each address of each next hop of a connector, with the connector's settings."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from copper_kite.net import (
    MAX_ADDRESSES,
    Dialogue,
    Plan,
    SessionFailed,
    StsPolicies,
    StsPolicy,
    demanded,
    interleave,
    mail_exchangers,
    resolve_host,
)
from copper_kite.routing import mx_order
from copper_kite.session.probe import Letter, Probed, run_probe, verdict_on_stop
from copper_kite.verdict import Verdict
from copper_kite.words import Cause, Stage

__all__ = ["Survey", "exchangers", "run_survey"]


@dataclass(frozen=True, slots=True)
class Survey:
    """The result for each address, in the order of the hosts, and the verdict on all of them."""

    ways: Sequence[Probed]
    verdict: Verdict

    @property
    def passed(self) -> bool:
        """Whether each host is reachable at one of its addresses at least."""
        hosts = {way.plan.where for way in self.ways}
        return bool(hosts) and hosts == {way.plan.where for way in self.ways if way.passed}


async def run_survey(hosts: Sequence[Plan | Probed], facts: Mapping[str, Any], letter: Letter | None) -> Survey:
    """Probe each address of each host, all at the same time; `facts` is what the sentences may name.

    A host that must not be met comes as what is known of it.
    """
    result = await asyncio.gather(*(_host(host, facts, letter) for host in hosts))
    ways = [way for of_host in result for way in of_host]
    return Survey(ways, _verdict(ways))


async def _host(plan: Plan | Probed, facts: Mapping[str, Any], letter: Letter | None) -> list[Probed]:
    if isinstance(plan, Probed):
        return [plan]
    if plan.path:
        return [await run_probe(plan, facts, letter)]
    try:
        host = await resolve_host(plan.host, plan.port, plan.timeouts.resolve, plan.dns)
    except SessionFailed as failure:
        return [_not_met(plan, failure, facts)]
    addresses = interleave(host)[:MAX_ADDRESSES]
    return await asyncio.gather(*(run_probe(replace(plan, address=address), facts, letter) for address in addresses))


def _not_met(plan: Plan, failure: SessionFailed, facts: Mapping[str, Any]) -> Probed:
    """A host of which not even an address is known."""
    return Probed(
        plan=plan, at=time.time(), stages=(), failure=failure, address="", tried=(), tls="", in_clear=None, keywords={},
        chain=(), dialogue=Dialogue(0.0), verdict=verdict_on_stop(plan, failure, facts, None),
    )  # fmt: skip


async def exchangers(
    first: Plan, recipient: str, own: Collection[str], facts: Mapping[str, Any], policies: StsPolicies | None = None
) -> list[Plan | Probed]:
    """The plans for the mail exchangers of a recipient's domain (RFC 5321 5.1), as their policies demand them; or why
    one, or all, must not be met. Without `policies`, none count."""
    domain = recipient.rpartition("@")[2]
    try:
        records, secure = await mail_exchangers(domain, first.timeouts.resolve, first.dns)
        hosts = mx_order(domain, records, own)
    except SessionFailed as failure:
        return [_not_met(replace(first, host=domain), failure, facts)]
    plans = [replace(first, host=host) for host in hosts]
    if policies is None:
        return list(plans)
    sts, _ = await policies.find(domain, first.timeouts.resolve)
    return list(await asyncio.gather(*(_demanded(plan, domain, sts, facts, secure=secure) for plan in plans)))


async def _demanded(
    plan: Plan, domain: str, sts: StsPolicy | None, facts: Mapping[str, Any], *, secure: bool
) -> Plan | Probed:
    try:
        if sts is not None and sts.mode == "enforce" and not sts.allows(plan.host):
            text = f"the MTA-STS policy of {domain} does not allow {plan.host}"
            raise SessionFailed(Stage.RESOLVE, Cause.STS_NO_HOST, text)
        return await demanded(plan, (domain,), sts, dane=secure)
    except SessionFailed as failure:
        return _not_met(plan, failure, facts)


def _verdict(ways: Sequence[Probed]) -> Verdict:
    """The verdict on the first host that is unreachable; else on all of them."""
    good = [way for way in ways if way.passed]
    reached = {way.plan.where for way in good}
    bad = next((way for way in ways if way.plan.where not in reached), None)
    if bad is None:
        left_out = [way for way in ways if not way.passed]
        return _all_well(good[0].verdict, sorted(reached), left_out, alone=len(ways) == 1)
    if not good:
        return bad.verdict
    meaning = f"Mail goes by {', '.join(dict.fromkeys(way.plan.where for way in good))}. {bad.verdict.meaning}"
    return replace(bad.verdict, meaning=meaning)


def _all_well(first: Verdict, hosts: Sequence[str], left_out: Sequence[Probed], *, alone: bool) -> Verdict:
    advice = "the same with --to and an address of yours sends one small real message"
    if alone:
        return replace(first, advice=advice)
    whom = f"all {len(hosts)} hosts" if len(hosts) > 1 else hosts[0]
    meaning = f"Mail can be handed to {whom}; no message was sent."
    if left_out:
        words = "; ".join(f"{way.plan.address}: {way.failure.text}" for way in left_out if way.failure)
        meaning = f"{meaning} Some addresses give no session, and are passed over: {words}."
    return replace(first, meaning=meaning, advice=advice)
