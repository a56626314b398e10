"""How a session fares under the policies of its host and domain: which senders would refuse it (RFC 7672, RFC 8461)."""

from __future__ import annotations

import time
from collections.abc import Sequence

from copper_kite.net import (
    Plan,
    SessionFailed,
    StsPolicies,
    find_tlsa,
    may_validate,
    why_no_match,
)

__all__ = ["policies_seen"]


async def policies_seen(plan: Plan, chain: Sequence[bytes], recipients: Sequence[str]) -> dict[str, str]:
    """By the policy's name, what it says of the host of `plan`, which showed these certificates (DER); nothing where
    this machine's resolver cannot tell. The domains are those of `recipients`."""
    if plan.tls == "off" or plan.path or not may_validate(plan.dns):
        return {}
    seen = {}
    if said := await _dane(plan, chain):
        seen["DANE"] = said
    for domain in dict.fromkeys(recipient.rpartition("@")[2].lower() for recipient in recipients):
        policies = StsPolicies(None, time.time, plan.dns, plan.trust, plan.policy_port)
        policy, problem = await policies.find(domain, plan.timeouts.resolve)
        if policy is not None:
            allowed = "allows this host" if policy.allows(plan.host) else "does not allow this host: senders refuse it"
            seen[f"MTA-STS of {domain}"] = f"{policy.mode}, {allowed}"
        elif problem:
            seen[f"MTA-STS of {domain}"] = f"no policy available: {problem}"
    return seen


async def _dane(plan: Plan, chain: Sequence[bytes]) -> str:
    try:
        result = await find_tlsa(plan.host, plan.port, plan.timeouts.resolve, plan.dns)
    except SessionFailed as failure:
        return f"{failure.text}: senders that use DANE do not use this host"
    if result is None:
        return ""
    records = ", ".join(map(str, result.records))
    if not result.usable:
        return f"TLSA {records}: none usable; TLS is required, without verification"
    if not chain:
        return f"TLSA {records}: TLS is required; senders that use DANE refuse a session without"
    why = why_no_match(result.usable, chain, (result.base, plan.host), time.time())
    return f"TLSA {records}: {f'{why}; senders that use DANE refuse it' if why else 'its certificate fits'}"
