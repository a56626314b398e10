"""The mechanisms that use a token: OAUTHBEARER (RFC 7628), and what some providers had before it."""

from __future__ import annotations

import json
import re

from copper_kite.smtp.grammar import Syntax
from copper_kite.smtp.sasl.base import Challenge, Directory, Exchange, Mechanism, Outcome
from copper_kite.smtp.sasl.values import ProvenLogin, Secret, decode_text, escape_name, unescape_name

__all__ = ["OAuthBearer", "OAuthBearerExchange", "XOAuth2", "XOAuth2Exchange"]


STATUSES = {
    "invalid_token": "the token has ended, was revoked, or is for something else",
    "400": "the token has ended, was revoked, or is for something else",
    "401": "the token has ended, was revoked, or is for something else",
    "insufficient_scope": "the token does not cover sending mail",
    "invalid_request": "the server did not understand the login",
}
MAX_TOLD = 200  # characters of what a server says


def explain_error(challenge: bytes) -> str:
    """The status in the JSON of a challenge that refuses a token (RFC 7628 3.2.2); empty where it has none."""
    try:
        told = json.loads(challenge)
    except ValueError:
        return ""
    if not isinstance(told, dict):
        return ""
    status = str(told.get("status", ""))
    words = [f"status {status}: {STATUSES[status]}" if status in STATUSES else f"status {status}" if status else ""]
    words += [f"{name} {told[name]}" for name in ("scope", "schemes", "openid-configuration") if told.get(name)]
    text = "; ".join(filter(None, words))[:MAX_TOLD]
    return f"the server says: {text}" if text.isprintable() and text else ""


class OAuthBearer(Mechanism):
    """RFC 7628. After the error's JSON comes one octet, and then the refusal (3.2.3)."""

    def first(self) -> bytes | None:
        credentials = self._credentials
        where = f"\x01host={credentials.host}\x01port={credentials.port}" if credentials.host else ""
        return f"n,a={escape_name(credentials.login)},{where}\x01auth=Bearer {self._token}\x01\x01".encode()

    def next(self, challenge: bytes) -> bytes:
        self.told = explain_error(challenge)
        return (self.first() or b"") if not challenge else b"\x01"


class XOAuth2(Mechanism):
    """No RFC; what some providers had before RFC 7628."""

    def first(self) -> bytes | None:
        return f"user={self._credentials.login}\x01auth=Bearer {self._token}\x01\x01".encode()

    def next(self, challenge: bytes) -> bytes:
        self.told = explain_error(challenge)
        return (self.first() or b"") if not challenge else b""


class OAuthBearerExchange(Exchange):
    """RFC 7628, and XOAUTH2 before it: a refusal comes only after the client has read why."""

    pattern = re.compile(
        r"n,(?:a=([^,]*))?,(?:\x01[a-z]+=[^\x01]*)*?\x01auth=Bearer ([^\x01]+)\x01(?:[a-z]+=[^\x01]*\x01)*\x01"
    )
    last = b"\x01"

    def __init__(self, directory: Directory) -> None:
        super().__init__(directory)
        self._refused: str | None = None

    def step(self, message: bytes) -> Outcome:
        if self._refused is not None:
            if message != self.last:
                raise Syntax("not the end of a refused login")
            return ProvenLogin(self._refused, False)
        match = self.pattern.fullmatch(decode_text(message))
        if match is None:
            raise Syntax("not a token login")
        login = unescape_name(match[1] or "")
        if self._directory.token_holds(login, Secret(match[2])):
            return ProvenLogin(login, True)
        self._refused = login
        return Challenge(b'{"status":"invalid_token"}')


class XOAuth2Exchange(OAuthBearerExchange):
    """No RFC."""

    pattern = re.compile(r"user=([^\x01]*)\x01auth=Bearer ([^\x01]+)\x01\x01")
    last = b""
