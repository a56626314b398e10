"""The client's TLS contexts, and what a failed handshake means."""

from __future__ import annotations

import ssl
from functools import lru_cache

from copper_kite.words import Cause

__all__ = ["cause_of", "client_context", "describe"]


@lru_cache(maxsize=64)
def client_context(trust: str) -> ssl.SSLContext:
    """A context that demands a certificate for the right name: `trust` is `system` or the path of a CA file.

    TLS 1.2 or later (RFC 8996). Raises OSError or ssl.SSLError when the file cannot be read.
    """
    context = ssl.create_default_context(cafile=None if trust == "system" else trust)
    context.minimum_version = ssl.TLSVersion.TLSv1_2
    context.hostname_checks_common_name = False  # RFC 9525 6.3: names count only as subjectAltName
    return context


_EXPIRED, _NOT_YET_VALID = 10, 9  # X509_V_ERR_CERT_HAS_EXPIRED, X509_V_ERR_CERT_NOT_YET_VALID
_NAME_MISMATCH, _ADDRESS_MISMATCH = 62, 64  # X509_V_ERR_HOSTNAME_MISMATCH, X509_V_ERR_IP_ADDRESS_MISMATCH


def cause_of(error: Exception) -> Cause:
    """What a failed handshake says about the certificate, if it is about the certificate."""
    if not isinstance(error, ssl.SSLCertVerificationError):
        return Cause.TLS_FAILED
    if error.verify_code in (_EXPIRED, _NOT_YET_VALID):
        return Cause.CERTIFICATE_EXPIRED
    if error.verify_code in (_NAME_MISMATCH, _ADDRESS_MISMATCH):
        return Cause.CERTIFICATE_WRONG_NAME
    return Cause.CERTIFICATE_UNTRUSTED


def describe(error: Exception) -> str:
    """A handshake's error in a few words, without the library's own decoration."""
    if isinstance(error, ssl.SSLCertVerificationError):
        return error.verify_message
    if isinstance(error, ssl.SSLError) and error.reason == "WRONG_VERSION_NUMBER":
        return "the port does not speak TLS at once"
    if isinstance(error, ssl.SSLError) and error.reason:
        return error.reason.replace("_", " ").lower()
    return str(error) or "the peer closed the connection"
