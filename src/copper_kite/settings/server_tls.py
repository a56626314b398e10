"""The TLS context of our server side, made where its files are named: a wrong one is found before it is used."""

from __future__ import annotations

import ssl

__all__ = ["server_context"]


def server_context(certificate: str, key: str) -> ssl.SSLContext:
    """A context that shows the certificate in these PEM files."""
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.minimum_version = ssl.TLSVersion.TLSv1_2
    context.options |= ssl.OP_NO_RENEGOTIATION  # RFC 9325 3.5
    context.load_cert_chain(certificate, key)
    return context
