"""The plan for a host under its policies: DANE first, then MTA-STS, which never weakens it (RFC 8461 2)."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from copper_kite.net.dane import find_tlsa
from copper_kite.net.demand import DANE, Demand
from copper_kite.net.plan import Plan
from copper_kite.net.sts import StsPolicy
from copper_kite.net.tls import UNVERIFIED

__all__ = ["demanded"]


async def demanded(plan: Plan, names: Sequence[str], sts: StsPolicy | None, *, dane: bool) -> Plan:
    """`plan` with what the policies of its host demand. `names` are the domains that mail is for (RFC 7672 3.2.2);
    `dane` says whether TLSA records may be asked for: the way to the host's name is signed, too.

    Raises SessionFailed where the host must not be used.
    """
    if plan.tls == "off":
        return plan
    result = await find_tlsa(plan.host, plan.port, plan.timeouts.resolve, plan.dns) if dane else None
    mode = "implicit" if plan.tls == "implicit" else "starttls"
    if result is not None:
        demand = Demand("dane", result.usable, tuple(dict.fromkeys((result.base, plan.host, *names))))
        return replace(plan, tls=mode, trust=DANE if result.usable else UNVERIFIED, demand=demand)
    if sts is None:
        return plan
    if sts.mode == "enforce":
        return replace(plan, tls=mode, demand=Demand("sts"))
    fallback = replace(plan, demand=Demand("sts", testing=True, failed=True))
    if not sts.allows(plan.host):
        return fallback
    return replace(plan, tls=mode, demand=Demand("sts", testing=True), fallback=fallback)
