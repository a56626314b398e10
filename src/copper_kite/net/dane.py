"""DANE for SMTP: TLSA records found, and certificates matched by them (RFC 6698, RFC 7671, RFC 7672)."""

from __future__ import annotations

import asyncio
import datetime
import hashlib
from collections.abc import Sequence
from typing import TYPE_CHECKING, NamedTuple

from copper_kite.net.demand import Tlsa
from copper_kite.net.failure import SessionFailed
from copper_kite.net.records import Found, ask
from copper_kite.words import Cause, Stage

if TYPE_CHECKING:
    from cryptography.x509 import Certificate

__all__ = ["TlsaFound", "find_tlsa", "why_no_match"]

MAX_CHAIN = 10  # certificates looked at
HASHES = {1: "sha256", 2: "sha512"}


class TlsaFound(NamedTuple):
    """The records of a host, and the name at which they were found: its own, or the one that its aliases lead to."""

    records: tuple[Tlsa, ...]
    base: str

    @property
    def usable(self) -> tuple[Tlsa, ...]:
        """The usable records; with none, TLS is required and nobody is verified (RFC 7672 2.2)."""
        return tuple(record for record in self.records if record.usable)


async def find_tlsa(host: str, port: int, seconds: float, dns: str) -> TlsaFound | None:
    """The TLSA records of a host that DNSSEC vouches for; None where there are none (RFC 7672 2.2).

    Raises SessionFailed where nobody can tell: then the host must not be used (RFC 7672 2.1.2, 2.2).
    """
    answers = await asyncio.gather(*(ask(host, kind, seconds, dns) for kind in ("AAAA", "A")))
    if not any(answer.found is Found.RECORDS for answer in answers):
        return None  # that it has no address is told when it is resolved
    if not all(answer.secure for answer in answers if answer.found is not Found.FAILED):
        return None
    canonical = next((answer.canonical for answer in answers if answer.canonical), host)
    for base in dict.fromkeys((canonical, host.lower())):
        name = f"_{port}._tcp.{base}"
        answer = await ask(name, "TLSA", seconds, dns)
        if answer.found is Found.FAILED:
            text = f"{name}: it is unknown whether there are TLSA records: {answer.problem}"
            raise SessionFailed(Stage.RESOLVE, Cause.DANE_UNKNOWN, text)
        if answer.found is Found.RECORDS and answer.secure:
            return TlsaFound(tuple(map(Tlsa.of, answer.records)), base)
    return None


def why_no_match(records: Sequence[Tlsa], chain: Sequence[bytes], names: Sequence[str], now: float) -> str:
    """Why no record fits the certificates that a server showed (DER, its own first); empty where one does.

    `names` are those that a certificate by usage 2 may be for (RFC 7672 3.2.2); `now` in seconds since 1970.
    """
    from cryptography import x509

    try:
        certificates = [x509.load_der_x509_certificate(der) for der in chain[:MAX_CHAIN]]
    except ValueError:
        return "one of its certificates cannot be read"
    if not certificates:
        return "it shows no certificate"
    if any(record.usage == 3 and _fits(record, certificates[0]) for record in records):
        return ""  # neither names nor dates count (RFC 7671 5.1)
    if anchors := [record for record in records if record.usage == 2]:
        return _why_not_anchored(anchors, certificates, names, now)
    return f"its certificate fits none of its TLSA records ({', '.join(map(str, records))})"


def _fits(record: Tlsa, certificate: Certificate) -> bool:
    from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat

    if record.selector == 0:
        octets = certificate.public_bytes(Encoding.DER)
    else:
        octets = certificate.public_key().public_bytes(Encoding.DER, PublicFormat.SubjectPublicKeyInfo)
    return record.data == (octets if record.matching == 0 else hashlib.new(HASHES[record.matching], octets).digest())


def _why_not_anchored(
    anchors: Sequence[Tlsa], certificates: list[Certificate], names: Sequence[str], now: float
) -> str:
    """By usage 2: a chain from the server's own certificate to one that fits, with good dates and a name that is meant
    (RFC 7671 5.2)."""
    from cryptography import x509

    whole = [record.data for record in anchors if (record.selector, record.matching) == (0, 0)]
    known = [*certificates[1:], *(x509.load_der_x509_certificate(data) for data in whole if _is_certificate(data))]
    path = [certificates[0]]
    while not any(_fits(record, path[-1]) for record in anchors if len(path) > 1):
        issuer = next((item for item in known if item not in path and _has_issued(item, path[-1])), None)
        if issuer is None:
            return "its certificate does not lead to the authority in its TLSA records"
        path.append(issuer)
    at = datetime.datetime.fromtimestamp(now, datetime.UTC)
    if not all(item.not_valid_before_utc <= at <= item.not_valid_after_utc for item in path):
        return "a certificate between it and the authority in its TLSA records is out of date"
    if not _is_for(certificates[0], names):
        return f"its certificate is not for {' or '.join(names)}"
    return ""


def _is_certificate(data: bytes) -> bool:
    from cryptography import x509

    try:
        x509.load_der_x509_certificate(data)
    except ValueError:
        return False
    return True


def _has_issued(issuer: Certificate, certificate: Certificate) -> bool:
    from cryptography import x509
    from cryptography.exceptions import InvalidSignature

    try:
        if not issuer.extensions.get_extension_for_class(x509.BasicConstraints).value.ca:
            return False
        certificate.verify_directly_issued_by(issuer)
    except (x509.ExtensionNotFound, InvalidSignature, TypeError, ValueError):
        return False
    return True


def _is_for(certificate: Certificate, names: Sequence[str]) -> bool:
    """Whether it is for one of the names; a wildcard stands for one left-most label (RFC 6125 6.4.3)."""
    from cryptography import x509

    try:
        extension = certificate.extensions.get_extension_for_class(x509.SubjectAlternativeName)
    except (x509.ExtensionNotFound, ValueError):
        return False
    shown = {name.lower().rstrip(".") for name in extension.value.get_values_for_type(x509.DNSName)}
    return any(name.lower() in shown or f"*.{name.lower().partition('.')[2]}" in shown for name in names)
