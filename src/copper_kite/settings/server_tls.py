"""The TLS context of our server side, made where its files are named: a wrong one is found before it is used."""

from __future__ import annotations

import ssl

__all__ = ["server_context"]

# For TLS 1.2: a key of its own for each session, and nothing weaker than 112 bits (RFC 9325 4.1, 4.2); the level also
# refuses a certificate of ours with a key under RSA 2048.
CIPHERS = "ECDHE+AESGCM:ECDHE+CHACHA20:DHE+AESGCM:ECDHE+AES:!aNULL:!kRSA:!SHA1:@SECLEVEL=2"


def server_context(certificate: str, key: str) -> ssl.SSLContext:
    """A context that shows the certificate in these PEM files."""
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.minimum_version = ssl.TLSVersion.TLSv1_2
    context.set_ciphers(CIPHERS)
    context.options |= ssl.OP_NO_RENEGOTIATION  # RFC 9325 3.5
    context.load_cert_chain(certificate, key)
    return context
