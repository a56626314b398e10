"""Whose certificate a certificate is (RFC 9525): names and addresses, and nothing else."""

from __future__ import annotations

import datetime
import ipaddress
import ssl
from collections.abc import Sequence
from pathlib import Path

import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID

from copper_kite.net.tls import cause_of, client_context
from copper_kite.words import Cause

KEY = ec.generate_private_key(ec.SECP256R1())


def certificate(folder: Path, common: str, *alternatives: str) -> Path:
    """A certificate that is its own authority, with its key, in a file."""
    name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, common)])
    now = datetime.datetime.now(datetime.UTC)
    builder = (
        x509.CertificateBuilder().subject_name(name).issuer_name(name).public_key(KEY.public_key()).serial_number(7)
        .not_valid_before(now - datetime.timedelta(1)).not_valid_after(now + datetime.timedelta(1))
        .add_extension(x509.BasicConstraints(ca=True, path_length=None), critical=True)
    )  # fmt: skip
    if alternatives:
        builder = builder.add_extension(x509.SubjectAlternativeName(list(map(alternative, alternatives))), False)
    file = folder / "one.pem"
    pem = builder.sign(KEY, hashes.SHA256()).public_bytes(serialization.Encoding.PEM)
    encodings = serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    file.write_bytes(pem + KEY.private_bytes(*encodings))
    return file


def alternative(name: str) -> x509.GeneralName:
    if name.startswith("ip:"):
        return x509.IPAddress(ipaddress.ip_address(name[3:]))
    return x509.DNSName(name)


def handshake(file: Path, host: str) -> tuple[Cause | None, list[str | None]]:
    """What our client finds wrong with it at `host`, and the names that the server was asked for."""
    asked: list[str | None] = []
    serving = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    serving.load_cert_chain(file)
    serving.sni_callback = lambda _, name, __: asked.append(name)  # type: ignore[assignment]
    client_context.cache_clear()
    there, back = ssl.MemoryBIO(), ssl.MemoryBIO()
    ends = [
        client_context(str(file)).wrap_bio(back, there, server_hostname=host),
        serving.wrap_bio(there, back, server_side=True),
    ]
    for _ in range(4):
        for end in ends:
            try:
                end.do_handshake()
            except ssl.SSLWantReadError:
                continue
            except ssl.SSLError as error:
                return cause_of(error), asked
    return None, asked


WRONG = Cause.CERTIFICATE_WRONG_NAME


@pytest.mark.parametrize(
    ("common", "alternatives", "host", "cause"),
    [
        ("smtp.example.com", (), "smtp.example.com", WRONG),  # T-08
        ("smtp.example.com", ("other.example",), "smtp.example.com", WRONG),
        ("x", ("smtp.example.com",), "SMTP.example.COM", None),  # T-09
        ("x", ("*.example.com",), "smtp.example.com", None),
        ("x", ("*.example.com",), "example.com", WRONG),
        ("x", ("*.example.com",), "a.b.example.com", WRONG),
        ("x", ("s*.example.com",), "smtp.example.com", WRONG),
        ("x", ("a.*.com",), "a.example.com", WRONG),
        ("x", ("*",), "example", WRONG),
        ("x", ("xn--gr-zia.example",), "xn--gr-zia.example", None),
        ("x", ("ip:192.0.2.1",), "192.0.2.1", None),  # T-10
        ("x", ("ip:192.0.2.2",), "192.0.2.1", WRONG),
        ("x", ("192.0.2.1",), "192.0.2.1", WRONG),
        ("192.0.2.1", (), "192.0.2.1", WRONG),
        ("x", ("ip:2001:db8::1",), "2001:db8::1", None),
        ("x", ("ip:2001:db8::2",), "2001:db8::1", WRONG),
    ],
)
def test_names_of_a_certificate(
    folder: Path, common: str, alternatives: Sequence[str], host: str, cause: Cause | None
) -> None:
    """T-08, T-09, T-10, T-11: only as subjectAltName; an address has no server_name in the ClientHello."""
    result, asked = handshake(certificate(folder, common, *alternatives), host)
    assert result is cause
    address = host[0].isdigit()
    assert [name and name.lower() for name in asked] == [None if address else host.lower()]
