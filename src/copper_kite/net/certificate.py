"""A certificate as an administrator reads it: its names, issuer, expiry and key."""

from __future__ import annotations

import warnings
from dataclasses import dataclass
from pathlib import Path
from typing import Any

__all__ = ["Certificate", "certificate_end", "read_certificate"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Certificate:
    """The facts of one certificate. `names` are its host names and addresses; instants in seconds since 1970."""

    subject: str
    names: tuple[str, ...]
    issuer: str
    not_before: float
    not_after: float
    key: str  # as in `EC 256` or `RSA 2048`
    fingerprint: str  # of the whole certificate: SHA-256, in hexadecimal
    self_signed: bool
    signs_others: bool  # whether it is an authority's
    issuer_url: str  # where it says that its issuer's certificate is, empty for nowhere (RFC 5280 4.2.2.1)

    def days_left(self, now: float) -> int:
        """Whole days until it is out of date; negative afterwards. `now` in seconds since 1970."""
        return int((self.not_after - now) // 86400)


def read_certificate(der: bytes) -> Certificate:
    """The facts in a certificate. Raises ValueError for what is none."""
    from cryptography import x509
    from cryptography.hazmat.primitives import hashes

    with warnings.catch_warnings():
        warnings.simplefilter("ignore")  # the library's remarks on odd certificates: an odd one is to be shown as well
        certificate = x509.load_der_x509_certificate(der)
        return Certificate(
            subject=_title(certificate.subject),
            names=_names(certificate),
            issuer=_title(certificate.issuer),
            not_before=certificate.not_valid_before_utc.timestamp(),
            not_after=certificate.not_valid_after_utc.timestamp(),
            key=_key(certificate),
            fingerprint=certificate.fingerprint(hashes.SHA256()).hex(),
            self_signed=certificate.subject == certificate.issuer,
            signs_others=_signs_others(certificate),
            issuer_url=_issuer_url(certificate),
        )


def certificate_end(file: Path) -> float | None:
    """The end of the first certificate in a PEM file, in seconds since 1970; None where there is no certificate."""
    from cryptography import x509

    try:
        return x509.load_pem_x509_certificates(file.read_bytes())[0].not_valid_after_utc.timestamp()
    except (OSError, ValueError):
        return None


def _title(name: Any) -> str:
    """The common name, or else the whole of a distinguished name."""
    from cryptography.x509.oid import NameOID

    common = name.get_attributes_for_oid(NameOID.COMMON_NAME)
    return str(common[0].value) if common else str(name.rfc4514_string())


def _names(certificate: Any) -> tuple[str, ...]:
    from cryptography import x509

    try:
        result = certificate.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
    except (x509.ExtensionNotFound, ValueError):
        return ()
    addresses = [str(address) for address in result.get_values_for_type(x509.IPAddress)]
    return (*result.get_values_for_type(x509.DNSName), *addresses)


def _signs_others(certificate: Any) -> bool:
    from cryptography import x509

    try:
        return bool(certificate.extensions.get_extension_for_class(x509.BasicConstraints).value.ca)
    except (x509.ExtensionNotFound, ValueError):
        return False


def _issuer_url(certificate: Any) -> str:
    from cryptography import x509
    from cryptography.x509.oid import AuthorityInformationAccessOID

    try:
        named = certificate.extensions.get_extension_for_class(x509.AuthorityInformationAccess).value
    except (x509.ExtensionNotFound, ValueError):
        return ""
    places = [item.access_location for item in named if item.access_method == AuthorityInformationAccessOID.CA_ISSUERS]
    return next((place.value for place in places if isinstance(place, x509.UniformResourceIdentifier)), "")


def _key(certificate: Any) -> str:
    from cryptography.exceptions import UnsupportedAlgorithm
    from cryptography.hazmat.primitives.asymmetric import ec, rsa

    try:
        key = certificate.public_key()
    except (UnsupportedAlgorithm, ValueError):
        return "unknown"
    if isinstance(key, rsa.RSAPublicKey):
        return f"RSA {key.key_size}"
    if isinstance(key, ec.EllipticCurvePublicKey):
        return f"EC {key.key_size}"
    return type(key).__name__.strip("_").removesuffix("PublicKey")
