"""A certificate authority of our own, for stand-ins that speak real TLS without a network."""

from __future__ import annotations

import datetime
import ipaddress
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec, rsa
from cryptography.x509.oid import AuthorityInformationAccessOID, ExtendedKeyUsageOID, NameOID

__all__ = ["FAULTS", "CertificateFiles", "make_authority"]

VALID_FOR = datetime.timedelta(days=365)
DAY = datetime.timedelta(days=1)
FAULTS = ("none", "expired", "not yet valid", "wrong name", "self-signed", "weak", "wrong purpose", "no intermediate")
ISSUER_URL = (
    "http://pki.beaconpost.example/intermediate.der"  # where a certificate names its issuer's (RFC 5280 4.2.2.1)
)
WRONG_NAME = "somewhere-else.example"

Key = ec.EllipticCurvePrivateKey | rsa.RSAPrivateKey


@dataclass(frozen=True, slots=True)
class CertificateFiles:
    """Where the PEM files are: the authority to trust, and the server's certificate with its key (mode 0600)."""

    authority: Path
    certificate: Path
    key: Path


def make_authority(folder: Path, names: Sequence[str], fault: str = "none") -> CertificateFiles:
    """Make an authority and a certificate for `names` (host names or addresses) in `folder`, or take those there.

    `fault` is one of FAULTS: what is to be wrong with the certificate; each has files of its own.
    """
    prefix = "" if fault == "none" else fault.replace(" ", "-") + "-"
    files = CertificateFiles(folder / f"{prefix}ca.pem", folder / f"{prefix}server.pem", folder / f"{prefix}server.key")
    if files.authority.exists() and files.certificate.exists() and files.key.exists():
        return files
    folder.mkdir(mode=0o700, parents=True, exist_ok=True)
    now = datetime.datetime.now(datetime.UTC)
    ca_key: Key = ec.generate_private_key(ec.SECP256R1())
    key: Key = rsa.generate_private_key(65537, 1024) if fault == "weak" else ec.generate_private_key(ec.SECP256R1())
    ca_name = _name("Stand-in authority, made on the spot")
    authority = (
        _builder(ca_name, ca_name, ca_key, now - DAY, now + VALID_FOR)
        .add_extension(x509.BasicConstraints(ca=True, path_length=None), critical=True)
        .add_extension(_key_usage(signs_certificates=True), critical=True)
        .sign(ca_key, hashes.SHA256())
    )
    names = [WRONG_NAME] if fault == "wrong name" else names
    begins, ends = _FAULTY_TIMES.get(fault, (-DAY, VALID_FOR))
    if fault == "self-signed":
        ca_name, ca_key = _name(names[0]), key
    elif fault == "no intermediate":  # signed by one that nobody is sent
        ca_name, ca_key = _name("Stand-in intermediate authority"), ec.generate_private_key(ec.SECP256R1())
    purposes = [ExtendedKeyUsageOID.CLIENT_AUTH]
    if fault != "wrong purpose":
        purposes.append(ExtendedKeyUsageOID.SERVER_AUTH)
    builder = (
        _builder(_name(names[0]), ca_name, key, now + begins, now + ends)
        .add_extension(x509.BasicConstraints(ca=False, path_length=None), critical=True)
        .add_extension(_key_usage(signs_certificates=False), critical=True)
        .add_extension(x509.ExtendedKeyUsage(purposes), critical=False)
        .add_extension(x509.SubjectAlternativeName([_alternative(name) for name in names]), critical=False)
        .add_extension(x509.AuthorityKeyIdentifier.from_issuer_public_key(ca_key.public_key()), critical=False)
    )
    if fault == "no intermediate":
        place = x509.UniformResourceIdentifier(ISSUER_URL)
        access = x509.AccessDescription(AuthorityInformationAccessOID.CA_ISSUERS, place)
        builder = builder.add_extension(x509.AuthorityInformationAccess([access]), critical=False)
    certificate = builder.sign(ca_key, hashes.SHA256())
    _write(files.key, _key_pem(key), 0o600)
    _write(files.certificate, certificate.public_bytes(serialization.Encoding.PEM), 0o644)
    _write(files.authority, authority.public_bytes(serialization.Encoding.PEM), 0o644)
    return files


_FAULTY_TIMES = {"expired": (-VALID_FOR, -DAY), "not yet valid": (DAY, VALID_FOR)}


def _name(common: str) -> x509.Name:
    return x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, common)])


def _builder(
    subject: x509.Name, issuer: x509.Name, key: Key, begins: datetime.datetime, ends: datetime.datetime
) -> x509.CertificateBuilder:
    return (
        x509.CertificateBuilder()
        .subject_name(subject)
        .issuer_name(issuer)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(begins)
        .not_valid_after(ends)
        .add_extension(x509.SubjectKeyIdentifier.from_public_key(key.public_key()), critical=False)
    )


def _key_usage(*, signs_certificates: bool) -> x509.KeyUsage:
    return x509.KeyUsage(
        digital_signature=not signs_certificates,
        key_cert_sign=signs_certificates,
        crl_sign=signs_certificates,
        content_commitment=False,
        key_encipherment=False,
        data_encipherment=False,
        key_agreement=False,
        encipher_only=False,
        decipher_only=False,
    )


def _alternative(name: str) -> x509.GeneralName:
    try:
        return x509.IPAddress(ipaddress.ip_address(name))
    except ValueError:
        return x509.DNSName(name)


def _key_pem(key: Key) -> bytes:
    return key.private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    )


def _write(path: Path, octets: bytes, mode: int) -> None:
    path.touch(mode=mode)
    path.chmod(mode)
    path.write_bytes(octets)
