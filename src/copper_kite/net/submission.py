"""Where a domain takes submissions, by its SRV records (RFC 6186 3, RFC 8314 5.1)."""

from __future__ import annotations

import asyncio
from typing import NamedTuple

from copper_kite.net.records import Lookups

__all__ = ["SubmissionService", "submission_services"]


class SubmissionService(NamedTuple):
    """A host and port, and how TLS begins there."""

    host: str
    port: int
    tls: str


async def submission_services(domain: str, lookups: Lookups) -> list[SubmissionService]:
    """The services of a domain, TLS at once before STARTTLS, then by rank; none where it has none, or says so (`.`)."""
    services = []
    modes = {"_submissions": "implicit", "_submission": "starttls"}
    answers = await asyncio.gather(*(lookups.ask(f"{label}._tcp.{domain}", "SRV") for label in modes))
    for answer, tls in zip(answers, modes.values(), strict=True):
        ranked = sorted(answer.records, key=lambda record: (record.priority, -record.weight))
        hosts = [(str(record.target).rstrip(".").lower(), record.port) for record in ranked]
        services += [SubmissionService(host, port, tls) for host, port in hosts if host]
    return services
