"""The client's TLS contexts, the peer's certificates, and what a failed handshake means."""

from __future__ import annotations

import asyncio
import hashlib
import ssl
import time
from collections.abc import Sequence
from functools import lru_cache
from pathlib import Path
from typing import Any, NamedTuple

from copper_kite.net.demand import DANE
from copper_kite.net.plan import Plan
from copper_kite.smtp import Binding
from copper_kite.words import Cause

__all__ = [
    "LOOK",
    "PIN",
    "UNVERIFIED",
    "Sessions",
    "cause_of",
    "client_context",
    "describe",
    "end_point_binding",
    "fingerprint",
    "is_pinned",
    "peer_chain",
]

LOOK = "look"  # the trust that believes anybody: to see a certificate, never to hand anything over
UNVERIFIED = "unverified"  # the trust of opportunistic TLS (RFC 7435): no login goes under it
KEPT_SECONDS = 3600.0  # a session to go on with: no longer than a certificate may go unseen
PIN = "sha256:"  # what stands before the fingerprint of a certificate that is believed as it is


@lru_cache(maxsize=64)
def client_context(trust: str, certificate: str = "", key: str = "", ciphers: str = "") -> ssl.SSLContext:
    """A context that demands a certificate for the right name, TLS 1.2 or later (RFC 8996).

    `trust` is `system`, the path of a CA file or of a folder of them, or one or more pins (`sha256:…`, which
    `is_pinned` then checks). `certificate` and `key` are files of our own; `ciphers` narrows TLS 1.2, in the library's
    notation. Raises OSError (ssl.SSLError is one) when a file cannot be used.
    """
    if trust in (LOOK, UNVERIFIED, DANE) or trust.startswith(PIN):
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
        context.check_hostname = False
        context.verify_mode = ssl.CERT_NONE
        if trust == LOOK:
            context.set_ciphers("ALL:@SECLEVEL=0")  # what is too weak to be used can still be looked at
    else:
        folder = trust if Path(trust).is_dir() else None
        context = ssl.create_default_context(cafile=None if trust == "system" or folder else trust, capath=folder)
        context.hostname_checks_common_name = False  # RFC 9525 6.3: names count only as subjectAltName
    if trust != LOOK:
        context.minimum_version = ssl.TLSVersion.TLSv1_2
    context.options |= ssl.OP_NO_RENEGOTIATION  # RFC 9325 3.5
    if ciphers:
        context.set_ciphers(ciphers)
    if certificate:
        context.load_cert_chain(certificate, key or None)
    return context


class Earlier(NamedTuple):
    """A session of TLS, and the certificates that the server showed for it: it shows none when it is resumed."""

    session: ssl.SSLSession
    chain: list[bytes]


class Sessions:
    """Sessions of TLS that another connection may go on with, by the plan they were opened by (RFC 8446 2.2, RFC 5077).

    A server is as well known by one as by its certificate, for as long as it counts: each goes out once (RFC 8446 C.4),
    only under the context that verified it, and is forgotten after KEPT_SECONDS.
    """

    def __init__(self) -> None:
        self._kept: dict[Plan, tuple[Earlier, ssl.SSLContext, float]] = {}

    def __contains__(self, plan: Plan) -> bool:
        return plan in self._kept

    def take(self, plan: Plan, context: ssl.SSLContext) -> Earlier | None:
        """The session to resume, if there is one."""
        earlier, owner, kept = self._kept.pop(plan, (None, None, 0.0))
        return earlier if owner is context and time.monotonic() - kept < KEPT_SECONDS else None

    def keep(self, plan: Plan, tls: ssl.SSLObject, chain: list[bytes]) -> None:
        """Keep the session of `tls` for resumption, if the server issued one, with the certificates it showed."""
        session = tls.session
        if session is not None and (session.has_ticket or session.id):
            self._kept[plan] = Earlier(session, chain), tls.context, time.monotonic()


def fingerprint(der: bytes) -> str:
    """A certificate's pin."""
    return PIN + hashlib.sha256(der).hexdigest()


def is_pinned(trust: str, chain: Sequence[bytes]) -> bool:
    """Whether the peer's own certificate is among the pins in `trust`, if that is pins."""
    return not trust.startswith(PIN) or (bool(chain) and fingerprint(chain[0]) in trust.lower().split())


def end_point_binding(der: bytes) -> Binding | None:
    """`tls-server-end-point`: the certificate's digest by the hash of its signature (RFC 5929 4.1).

    None for a signature without a hash of its own (Ed25519), for which it is not defined. Python gives no key material
    of TLS 1.3 away, which RFC 9266 would take first.
    """
    from cryptography import x509

    result = x509.load_der_x509_certificate(der).signature_hash_algorithm
    if result is None:
        return None
    name = result.name
    return Binding("tls-server-end-point", hashlib.new("sha256" if name in ("md5", "sha1") else name, der).digest())


def peer_chain(transport: asyncio.BaseTransport) -> list[bytes]:
    """The certificates that the peer showed, in DER, its own first; only that one where Python gives no more."""
    info = transport.get_extra_info("ssl_object")
    if info is None:
        return []
    inner: Any = getattr(info, "_sslobj", None)  # public only from Python 3.13 on
    if hasattr(inner, "get_unverified_chain"):
        chain = inner.get_unverified_chain() or []
        return [item if isinstance(item, bytes) else item.public_bytes(_DER) for item in chain]
    own = info.getpeercert(binary_form=True)
    return [own] if own else []


_DER = 2  # ENCODING_DER of Python's own _ssl

# X509_V_ERR_*: what OpenSSL finds wrong with a certificate
_VERIFY_CAUSES = {
    9: Cause.CERTIFICATE_NOT_YET_VALID,
    10: Cause.CERTIFICATE_EXPIRED,
    18: Cause.CERTIFICATE_SELF_SIGNED,
    26: Cause.CERTIFICATE_PURPOSE,
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
    "ALERT_UNSUPPORTED_CERTIFICATE": Cause.TLS_CLIENT_CERTIFICATE,
    "EE_KEY_TOO_SMALL": Cause.CERTIFICATE_WEAK,
    "DH_KEY_TOO_SMALL": Cause.TLS_CIPHER,
}


def cause_of(error: Exception) -> Cause:
    """The reason for a failed handshake, or for an alert after it."""
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
