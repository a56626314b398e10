"""How TLS went with the mail exchangers of each domain, as text and as JSON."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from copper_kite.cli.output.show import echo, print_table

if TYPE_CHECKING:
    from copper_kite.report import DomainTls

__all__ = ["print_tls", "tls_json"]

NAMES = {"tlsa": "DANE", "sts": "MTA-STS", "no-policy-found": "none"}


def print_tls(domains: Mapping[str, DomainTls], period: str) -> None:
    """A line for each domain and policy, those that failed most first."""
    rows = [
        (domain, NAMES[policy], str(results.good[policy]), str(results.failures(policy)), _why(results, policy))
        for domain, results in domains.items()
        for policy in results.policies
    ]
    if not rows:
        echo(f"no session with a mail exchanger in {period}")
        return
    rows.sort(key=lambda row: (-int(row[3]), row[0]))
    print_table(("domain", "policy", "sessions", "failed", "why"), rows, right=("sessions", "failed"), wraps=True)


def _why(results: DomainTls, policy: str) -> str:
    if policy not in results.failed:
        return ""
    return "; ".join(
        f"{failure.result}{f' at {failure.host}' if failure.host else ''} ({count})"
        for failure, count in results.failed[policy].most_common(3)
    )


def tls_json(domains: Mapping[str, DomainTls]) -> list[dict[str, Any]]:
    """The same as JSON values."""
    return [
        {
            "domain": domain,
            "policy": policy,
            "sessions": results.good[policy],
            "failed": results.failures(policy),
            "failures": [
                {**failure._asdict(), "count": count} for failure, count in results.failed.get(policy, {}).items()
            ],
        }
        for domain, results in domains.items()
        for policy in results.policies
    ]
