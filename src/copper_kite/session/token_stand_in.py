"""A stand-in for a token server: it issues, expires and revokes tokens, and is slow or broken on request."""

from __future__ import annotations

import json
import secrets
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from urllib.parse import parse_qs

from copper_kite.session.web_stand_in import WebReply, WebRequest

__all__ = ["TokenStandIn"]

SLOW_SECONDS = 5.0


@dataclass
class TokenStandIn:
    """Gives tokens that hold `lifetime` seconds. With `rotate`, each refresh token works once.

    `pending` is how often a device is told to wait before its person has logged in. `fault` may change at any time.
    """

    issuer: str = "http://127.0.0.1"
    lifetime: float = 3600.0
    rotate: bool = True
    pending: int = 1
    client_secret: str = ""
    fault: str = "none"
    now: Callable[[], float] = time.time
    given: int = 0
    _access: dict[str, float] = field(default_factory=dict)  # token → when it ends
    _refresh: set[str] = field(default_factory=set)
    _devices: dict[str, int] = field(default_factory=dict)  # device code → how often it was asked for

    def first_refresh_token(self) -> str:
        """A refresh token, as somebody had it who logged in before."""
        token = f"refresh-{secrets.token_urlsafe(12)}"
        self._refresh.add(token)
        return token

    def holds(self, token: str) -> bool:
        """Whether an access token is good now."""
        return self.fault != "revoked" and self.now() < self._access.get(token, 0.0)

    def respond(self, request: WebRequest) -> WebReply:
        """The reply to a request."""
        if self.fault == "down":
            return WebReply(None)
        if self.fault == "broken":
            return WebReply(502, b"<html>bad gateway</html>", "text/html")
        reply = self._answer(request)
        return WebReply(reply.status, reply.body, reply.kind, delay=SLOW_SECONDS) if self.fault == "slow" else reply

    def _answer(self, request: WebRequest) -> WebReply:
        if request.path == "/.well-known/oauth-authorization-server":
            return _json(
                200,
                issuer=self.issuer,
                token_endpoint=f"{self.issuer}/token",
                device_authorization_endpoint=f"{self.issuer}/device",
            )
        form = {name: values[0] for name, values in parse_qs(request.body.decode("latin-1")).items()}
        if request.path == "/device":
            code = secrets.token_urlsafe(12)
            self._devices[code] = 0
            return _json(
                200, device_code=code, user_code="TERN-0425", verification_uri=f"{self.issuer}/enter", interval=1,
                expires_in=600,
            )  # fmt: skip
        return self._token(form) if request.path == "/token" else WebReply(404)

    def _token(self, form: dict[str, str]) -> WebReply:
        grant = form.get("grant_type", "")
        if self.fault == "revoked":
            return _json(400, error="invalid_grant", error_description="the grant was withdrawn")
        if self.fault == "no token":
            return _json(200, token_type="Bearer")
        if self.client_secret and form.get("client_secret") != self.client_secret:
            return _json(401, error="invalid_client")
        if grant.endswith("device_code"):
            code = form.get("device_code", "")
            if code not in self._devices:
                return _json(400, error="expired_token")
            self._devices[code] += 1
            if self._devices[code] <= self.pending:
                return _json(400, error="authorization_pending")
            return self._grant(refresh=True)
        if grant == "refresh_token":
            if form.get("refresh_token") not in self._refresh:
                return _json(400, error="invalid_grant", error_description="the refresh token is not known")
            if self.rotate:
                self._refresh.discard(form["refresh_token"])
            return self._grant(refresh=self.rotate)
        if grant == "client_credentials" and self.client_secret:
            return self._grant(refresh=False)
        return _json(400, error="unsupported_grant_type")

    def _grant(self, *, refresh: bool) -> WebReply:
        self.given += 1
        access = f"access-{self.given}-{secrets.token_urlsafe(8)}"
        self._access[access] = self.now() + self.lifetime
        more = {"refresh_token": self.first_refresh_token()} if refresh else {}
        return _json(200, access_token=access, token_type="Bearer", expires_in=self.lifetime, **more)


def _json(status: int, **values: object) -> WebReply:
    return WebReply(status, json.dumps(values).encode(), "application/json")
