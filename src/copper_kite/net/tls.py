"""The client's TLS contexts, the peer's certificates, and what a failed handshake means."""

from __future__ import annotations

import asyncio
import ssl
from functools import lru_cache
from typing import Any

from copper_kite.words import Cause

__all__ = ["LOOK", "cause_of", "client_context", "describe", "peer_chain"]

LOOK = "look"  # the trust that believes anybody: to see a certificate, never to hand anything over


@lru_cache(maxsize=64)
def client_context(trust: str) -> ssl.SSLContext:
    """A context that demands a certificate for the right name: `trust` is `system` or the path of a CA file.

    TLS 1.2 or later (RFC 8996). Raises OSError or ssl.SSLError when the file cannot be read.
    """
    if trust == LOOK:
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
        context.check_hostname = False
        context.verify_mode = ssl.CERT_NONE
        context.set_ciphers("ALL:@SECLEVEL=0")  # what is too weak to be used can still be looked at
        return context
    context = ssl.create_default_context(cafile=None if trust == "system" else trust)
    context.minimum_version = ssl.TLSVersion.TLSv1_2
    context.hostname_checks_common_name = False  # RFC 9525 6.3: names count only as subjectAltName
    return context


def peer_chain(transport: asyncio.BaseTransport) -> list[bytes]:
    """The certificates that the peer showed, in DER, its own first; only that one where Python gives no more."""
    found = transport.get_extra_info("ssl_object")
    if found is None:
        return []
    inner: Any = getattr(found, "_sslobj", None)  # public only from Python 3.13 on
    if hasattr(inner, "get_unverified_chain"):
        chain = inner.get_unverified_chain() or []
        return [one if isinstance(one, bytes) else one.public_bytes(_DER) for one in chain]
    own = found.getpeercert(binary_form=True)
    return [own] if own else []


_DER = 2  # ENCODING_DER of Python's own _ssl

# X509_V_ERR_*: what OpenSSL finds wrong with a certificate
_VERIFY_CAUSES = {
    9: Cause.CERTIFICATE_NOT_YET_VALID,
    10: Cause.CERTIFICATE_EXPIRED,
    18: Cause.CERTIFICATE_SELF_SIGNED,
    62: Cause.CERTIFICATE_WRONG_NAME,
    64: Cause.CERTIFICATE_WRONG_NAME,  # of an address
    66: Cause.CERTIFICATE_WEAK,  # its key
    67: Cause.CERTIFICATE_WEAK,  # the key of its issuer
    68: Cause.CERTIFICATE_WEAK,  # the digest of a signature
}

# By the end of OpenSSL's reason: what stands before it names the version of the protocol, differently in each release.
_REASONS = {
    "WRONG_VERSION_NUMBER": Cause.SPEAKS_CLEAR,
    "PACKET_LENGTH_TOO_LONG": Cause.SPEAKS_CLEAR,
    "RECORD_LAYER_FAILURE": Cause.SPEAKS_CLEAR,
    "ALERT_PROTOCOL_VERSION": Cause.TLS_VERSION,
    "UNSUPPORTED_PROTOCOL": Cause.TLS_VERSION,
    "ALERT_HANDSHAKE_FAILURE": Cause.TLS_CIPHER,
    "NO_CIPHERS_AVAILABLE": Cause.TLS_CIPHER,
    "ALERT_CERTIFICATE_REQUIRED": Cause.TLS_CLIENT_CERTIFICATE,
    "ALERT_BAD_CERTIFICATE": Cause.TLS_CLIENT_CERTIFICATE,
    "ALERT_UNKNOWN_CA": Cause.TLS_CLIENT_CERTIFICATE,
    "EE_KEY_TOO_SMALL": Cause.CERTIFICATE_WEAK,
    "DH_KEY_TOO_SMALL": Cause.TLS_CIPHER,
}


def cause_of(error: Exception) -> Cause:
    """What a failed handshake, or an alert after it, says was wrong."""
    if isinstance(error, ssl.SSLCertVerificationError):
        return _VERIFY_CAUSES.get(error.verify_code, Cause.CERTIFICATE_UNTRUSTED)
    reason = (error.reason or "") if isinstance(error, ssl.SSLError) else ""
    return next((cause for end, cause in _REASONS.items() if reason.endswith(end)), Cause.TLS_FAILED)


def describe(error: Exception) -> str:
    """A handshake's error in a few words, without the library's own decoration."""
    if isinstance(error, ssl.SSLCertVerificationError):
        return error.verify_message
    if isinstance(error, ssl.SSLError) and error.reason:
        if cause_of(error) is Cause.SPEAKS_CLEAR:
            return "the port does not speak TLS at once"
        return error.reason.replace("_", " ").lower()
    return str(error) or "the peer closed the connection"
