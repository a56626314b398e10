"""How TLS went with the mail exchangers of each domain, and the report on that for the domain itself (RFC 8460)."""

from __future__ import annotations

import asyncio
import gzip
import json
import re
import time
from collections import Counter
from collections.abc import Collection, Iterable, Sequence
from dataclasses import dataclass, field
from email.message import EmailMessage
from email.policy import SMTP
from typing import Any, NamedTuple

from copper_kite.mail import BadTags, format_date, parse_tags
from copper_kite.net import WebFailed, fetch
from copper_kite.store import Attempt, Happened
from copper_kite.words import Cause

__all__ = [
    "DomainTls",
    "TlsFailure",
    "TlsReport",
    "collect_tls",
    "report_addresses",
    "send_tls_report",
    "tls_message",
    "tls_report",
]

# Result types (RFC 8460 4.3) by cause; all that is not named here and is about TLS is a failure of validation.
RESULTS = {
    Cause.TLS_NOT_OFFERED: "starttls-not-supported",
    Cause.TLS_REFUSED: "starttls-not-supported",
    Cause.CERTIFICATE_WRONG_NAME: "certificate-host-mismatch",
    Cause.CERTIFICATE_EXPIRED: "certificate-expired",
    Cause.CERTIFICATE_UNTRUSTED: "certificate-not-trusted",
    Cause.CERTIFICATE_INCOMPLETE: "certificate-not-trusted",
    Cause.CERTIFICATE_SELF_SIGNED: "certificate-not-trusted",
    Cause.DANE_MISMATCH: "validation-failure",
    Cause.DANE_UNKNOWN: "dnssec-invalid",
    Cause.STS_NO_HOST: "validation-failure",
}
_OTHER = {cause for cause in Cause if cause.kind and (cause.about_certificate or "TLS" in cause.value)}
POLICY_TYPES = {"dane": "tlsa", "sts": "sts", "": "no-policy-found"}
_TARGET = re.compile(r"(?:mailto:(?P<mail>[^@\s!]+@[^\s!]+)|(?P<web>https://\S+))", re.I)
POST_SECONDS = 20.0
MAX_REPLY = 64 * 1024  # octets
MAX_TARGETS = 5  # of one domain


class TlsFailure(NamedTuple):
    """A kind of failure with one host."""

    result: str
    host: str
    address: str
    cause: str


@dataclass(slots=True)
class DomainTls:
    """Sessions with the exchangers of a domain in a period, by the policy that they went by (`tlsa`, `sts`,
    `no-policy-found`): how many came about, and which did not."""

    good: Counter[str] = field(default_factory=Counter)
    failed: dict[str, Counter[TlsFailure]] = field(default_factory=dict)

    @property
    def policies(self) -> list[str]:
        """The policies that there were, the strictest first."""
        return [kind for kind in POLICY_TYPES.values() if kind in self.good or kind in self.failed]

    def failures(self, policy: str) -> int:
        """How many failed under a policy."""
        return self.failed[policy].total() if policy in self.failed else 0

    def count(self, policy: str, failure: TlsFailure | None) -> None:
        """Count one session."""
        if failure is None:
            self.good[policy] += 1
        else:
            self.failed.setdefault(policy, Counter())[failure] += 1


class TlsReport(NamedTuple):
    """The report on one domain, as JSON values, and where it goes."""

    domain: str
    since: float
    until: float
    id: str
    values: dict[str, Any]


def collect_tls(happened: Iterable[Happened], connectors: Collection[str]) -> dict[str, DomainTls]:
    """The sessions of attempts through `connectors`, those that go to mail exchangers, by domain."""
    domains: dict[str, DomainTls] = {}
    for event in happened:
        attempt = event.item
        if isinstance(attempt, Attempt) and attempt.connector in connectors and attempt.facts.results:
            domain = attempt.facts.results[0].address.rpartition("@")[2].lower()
            for policy, failure in _sessions(attempt):
                domains.setdefault(domain, DomainTls()).count(policy, failure)
    return domains


def _sessions(attempt: Attempt) -> Iterable[tuple[str, TlsFailure | None]]:
    """The sessions that were opened or tried for an attempt: by which policy, and how each failed, if it did."""
    session = attempt.facts.session
    policy = POLICY_TYPES[session.policy.partition(",")[0]]
    for tried in session.tried:
        if (result := _result(tried.cause)) is not None:
            yield (
                _policy_of(tried.cause, policy),
                TlsFailure(result, tried.next_hop.rpartition(":")[0], tried.address, tried.cause),
            )
    if session.message_of_session == 1:
        failed = session.policy.endswith("failed")
        host = attempt.next_hop.rpartition(":")[0]
        yield policy, TlsFailure("validation-failure", host, attempt.address, "") if failed else None
    elif not session.message_of_session and not session.tried and attempt.cause == Cause.STS_NO_HOST.value:
        yield "sts", TlsFailure(RESULTS[Cause.STS_NO_HOST], "", "", attempt.cause)


def _result(cause: str) -> str | None:
    try:
        known = Cause(cause)
    except ValueError:  # of another release
        return None
    return RESULTS.get(known, "validation-failure" if known in _OTHER else None)


def _policy_of(cause: str, policy: str) -> str:
    if cause in (Cause.DANE_MISMATCH.value, Cause.DANE_UNKNOWN.value):
        return "tlsa"
    return "sts" if cause == Cause.STS_NO_HOST.value else policy


def report_addresses(texts: Sequence[str]) -> tuple[list[str], list[str]]:
    """The addresses and the URLs that reports on a domain go to, by its TXT records (RFC 8460 3); with several records,
    none."""
    records = [text for text in texts if re.match(r"v=TLSRPTv1\s*(;|$)", text)]
    if len(records) != 1:
        return [], []
    try:
        targets = parse_tags(records[0]).get("rua", "").split(",")
    except BadTags:
        return [], []
    matches = [match for target in targets[:MAX_TARGETS] if (match := _TARGET.fullmatch(target.strip()))]
    return [match["mail"] for match in matches if match["mail"]], [match["web"] for match in matches if match["web"]]


def tls_report(
    domain: str, results: DomainTls, since: float, until: float, *, organization: str, contact: str, server: str
) -> TlsReport:
    """The report on a domain (RFC 8460 4.4)."""
    id = f"{int(since)}.{domain}@{server}"
    values = {
        "organization-name": organization,
        "date-range": {"start-datetime": _utc(since), "end-datetime": _utc(until - 1)},
        "contact-info": contact,
        "report-id": id,
        "policies": [
            {
                "policy": {"policy-type": policy, "policy-domain": domain},
                "summary": {
                    "total-successful-session-count": results.good[policy],
                    "total-failure-session-count": results.failures(policy),
                },
                "failure-details": [
                    {
                        "result-type": failure.result,
                        **({"receiving-mx-hostname": failure.host} if failure.host else {}),
                        **({"receiving-ip": failure.address} if failure.address else {}),
                        "failed-session-count": count,
                        **({"failure-reason-code": failure.cause} if failure.cause else {}),
                    }
                    for failure, count in results.failed.get(policy, Counter()).most_common()
                ],
            }
            for policy in results.policies
        ],
    }
    return TlsReport(domain, since, until, id, values)


def _utc(at: float) -> str:
    return time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime(at))


def compressed(report: TlsReport) -> bytes:
    """The report as it goes out: JSON, by gzip; the same for the same report."""
    return gzip.compress(json.dumps(report.values, indent=1).encode(), mtime=0)


def tls_message(report: TlsReport, *, sender: str, to: str, server: str, now: float) -> bytes:
    """The report as a message (RFC 8460 3, 5.3)."""
    message = EmailMessage(policy=SMTP.clone(cte_type="7bit"))
    message["From"] = f"<{sender}>"
    message["To"] = f"<{to}>"
    message["Subject"] = f"Report Domain: {report.domain} Submitter: {server} Report-ID: <{report.id}>"
    message["Date"] = format_date(now)
    message["Message-ID"] = f"<tls.{report.id}>"
    message["TLS-Report-Domain"] = report.domain
    message["TLS-Report-Submitter"] = server
    message["TLS-Required"] = "No"  # RFC 8689 3: it tells of TLS that does not work
    message["Auto-Submitted"] = "auto-generated"
    message.set_content(f"How TLS went from {server} to the mail exchangers of {report.domain}.\n")
    name = f"{server}!{report.domain}!{int(report.since)}!{int(report.until) - 1}!1.json.gz"
    message.add_attachment(compressed(report), maintype="application", subtype="tlsrpt+gzip", filename=name)
    message.set_type("multipart/report")
    message.set_param("report-type", "tlsrpt")
    return message.as_bytes()


def send_tls_report(report: TlsReport, url: str) -> str:
    """Hand the report over by HTTPS (RFC 8460 5.4); what came of it, in words."""
    headers = {"Content-Type": "application/tlsrpt+gzip"}
    posting = fetch("POST", url, seconds=POST_SECONDS, limit=MAX_REPLY, headers=headers, content=compressed(report))
    try:
        status, _ = asyncio.run(posting)
    except WebFailed as error:
        return str(error)
    return f"answered {status}"
