"""All checks, and the weaknesses that were accepted on purpose."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import NamedTuple

from copper_kite.posture.audit import of_configuration, of_files
from copper_kite.posture.audit.surroundings import Surroundings
from copper_kite.posture.audit.weakness import Weakness, kite
from copper_kite.posture.domain import DomainReport, Grade, sending_domains
from copper_kite.settings import Loaded, signing_domain

__all__ = ["Audited", "audit_configuration"]

SECRET_WORDS = ("PASSWORD", "PASSWD", "SECRET", "TOKEN", "APIKEY", "API_KEY")
# The last day with security fixes, by version.
PYTHON_ENDS = {(3, 11): "2027-10-31", (3, 12): "2028-10-31", (3, 13): "2029-10-31", (3, 14): "2030-10-31"}
OPENSSL_LEAST = (3, 0)


class Audited(NamedTuple):
    """The open weaknesses, and the accepted ones with the reasons."""

    open: list[Weakness]
    accepted: list[tuple[Weakness, str]]


def audit_configuration(
    loaded: Loaded, around: Surroundings, reports: Sequence[DomainReport], now: float, today: str
) -> Audited:
    """All weaknesses; `reports` are on the sending domains, `today` as in 2026-11-29."""
    reasons = {(entry.risk, entry.of): entry.reason for entry in loaded.settings.accepted}
    audited = Audited([], [])
    for weakness in _all(loaded, around, reports, now, today):
        reason = reasons.get((weakness.risk, weakness.of)) or reasons.get((weakness.risk, ""))
        if reason is None:
            audited.open.append(weakness)
        else:
            audited.accepted.append((weakness, reason))
    return audited


def _all(
    loaded: Loaded, around: Surroundings, reports: Sequence[DomainReport], now: float, today: str
) -> Iterator[Weakness]:
    yield from of_configuration.connectors(loaded)
    yield from of_configuration.listeners(loaded)
    yield from of_configuration.accounts(loaded)
    yield from of_configuration.server(loaded)
    yield from of_files.modes(loaded)
    yield from of_files.certificates(loaded, now)
    yield from of_files.keys(loaded)
    yield from of_files.backup(loaded, now)
    yield from _domains(loaded, reports)
    yield from _process(around, today)


def _domains(loaded: Loaded, reports: Sequence[DomainReport]) -> Iterator[Weakness]:
    signed = {entry.domain for entry in loaded.settings.signing if entry.use == "sign"}
    for domain in sending_domains(loaded):
        if not signing_domain(domain, signed):
            cure = kite("signing", "add", domain)
            yield Weakness("unsigned-domain", domain, f"mail from {domain} is sent unsigned", cure)
    for report in reports:
        failing = [line for line in report.lines if line.topic == "passes DMARC" and line.grade is Grade.WRONG]
        if failing:
            text = f"mail from {report.domain} fails DMARC {', '.join(line.of for line in failing)}: {failing[0].text}"
            cure = kite("domain", report.domain, "--records")
            yield Weakness("dmarc-fails", report.domain, text, cure, advice="publish the records that it prints")


def _process(around: Surroundings, today: str) -> Iterator[Weakness]:
    if around.user == 0:
        yield Weakness("runs-as-root", "", "the server runs as root", kite("service", "--install"))
    if around.user is not None and not around.confined:
        text = "the server runs outside the confined unit of `kite service`"
        yield Weakness("unconfined", "", text, kite("service", "--install"))
    secrets = [name for name in around.environment if any(word in name.upper() for word in SECRET_WORDS)]
    if secrets:
        text = f"the server's environment contains {', '.join(secrets)}"
        advice = "store it with kite credential set --password-env, then remove it from the environment"
        yield Weakness("secret-in-environment", "", text, kite("credential", "list"), advice=advice)
    ends = PYTHON_ENDS.get(around.python)
    if (ends is None and around.python < min(PYTHON_ENDS)) or (ends is not None and today > ends):
        text = f"Python {'.'.join(map(str, around.python))} is no longer maintained"
        yield Weakness("old-software", "Python", text, "python3 --version", advice="install a newer one")
    if around.openssl < OPENSSL_LEAST:
        text = f"OpenSSL {'.'.join(map(str, around.openssl))} is no longer maintained"
        yield Weakness("old-software", "OpenSSL", text, "openssl version", advice="install a newer one")
