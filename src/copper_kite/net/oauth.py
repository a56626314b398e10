"""OAuth 2 as a mail server needs it: access tokens by refresh token or client credentials (RFC 6749), the login of a
device without a browser (RFC 8628), and where a server has its endpoints (RFC 8414)."""

from __future__ import annotations

import asyncio
import json
from collections.abc import Awaitable, Callable, Mapping
from typing import Any, NamedTuple
from urllib.parse import urlsplit

from copper_kite.errors import KiteError
from copper_kite.net.web import WebFailed, fetch
from copper_kite.settings import OAuthClient
from copper_kite.smtp import Secret
from copper_kite.words import Cause

__all__ = [
    "DeviceCode",
    "Granted",
    "Metadata",
    "TokenFailed",
    "await_device_login",
    "find_metadata",
    "request_token",
    "start_device_login",
]

SECONDS = 20.0  # for one request
MAX_REPLY = 64 * 1024  # octets
LIFETIME = 3600.0  # seconds of a token of which the server does not say
DEVICE_GRANT = "urn:ietf:params:oauth:grant-type:device_code"
SLOWER = 5.0  # seconds more between two questions, when the server asks for it (RFC 8628 3.5)
FINAL = ("invalid_grant", "invalid_client", "unauthorized_client", "access_denied", "invalid_scope", "expired_token")


class TokenFailed(KiteError):
    """No token was issued: `cause` is TOKEN_REFUSED where the server refuses for good, else TOKEN_UNAVAILABLE; `error`
    is the server's error code. The text holds no secret."""

    def __init__(self, cause: Cause, text: str, error: str = "") -> None:
        super().__init__(text)
        self.cause = cause
        self.error = error


class Granted(NamedTuple):
    """An access token, how many seconds it holds, and the refresh token to use from now on, if there is a new one."""

    access: Secret
    seconds: float
    refresh: Secret | None


class Metadata(NamedTuple):
    """The endpoints of a server; `device` is empty where it has none."""

    token: str
    device: str


class DeviceCode(NamedTuple):
    """The code to type and where; how often to poll, and for how long, in seconds."""

    user_code: str
    where: str
    complete: str  # the same address with the code in it; may be empty
    secret: Secret
    interval: float
    seconds: float


async def request_token(client: OAuthClient, refresh: Secret | None) -> Granted:
    """A new access token: by the refresh token, or where there is none by the client's own secret.

    Raises TokenFailed.
    """
    form = {
        "grant_type": "refresh_token" if refresh is not None else "client_credentials",
        "client_id": client.client_id,
    }
    if refresh is not None:
        form["refresh_token"] = refresh.reveal()
    if client.client_secret is not None:
        form["client_secret"] = client.client_secret.reveal()
    if client.scope:
        form["scope"] = client.scope
    return _granted(await _post(client.token_endpoint, form, client.trust), client.token_endpoint)


async def find_metadata(issuer: str, trust: str) -> Metadata:
    """The endpoints of an issuer (RFC 8414 3, or as OpenID Connect Discovery has them). Raises TokenFailed."""
    parts = urlsplit(issuer)
    base, path = f"{parts.scheme}://{parts.netloc}", parts.path.rstrip("/")
    places = (
        f"{base}/.well-known/oauth-authorization-server{path}",
        f"{base}{path}/.well-known/openid-configuration",
    )
    for place in places:
        status, values = await _send("GET", place, None, trust)
        if status == 200 and isinstance(values.get("token_endpoint"), str):
            if str(values.get("issuer", "")).rstrip("/") != issuer.rstrip("/"):  # RFC 8414 3.3
                raise _unavailable(f"{place} is about another issuer ({values.get('issuer')})")
            return Metadata(values["token_endpoint"], str(values.get("device_authorization_endpoint", "")))
    raise _unavailable(f"{issuer} does not publish its token endpoint")


async def start_device_login(client: OAuthClient, endpoint: str) -> DeviceCode:
    """Begin the login of this machine by a person elsewhere (RFC 8628 3.1). Raises TokenFailed."""
    form = {"client_id": client.client_id, **({"scope": client.scope} if client.scope else {})}
    values = await _post(endpoint, form, client.trust)
    try:
        return DeviceCode(
            str(values["user_code"]),
            str(values["verification_uri"]),
            str(values.get("verification_uri_complete", "")),
            Secret(str(values["device_code"])),
            float(values.get("interval", 5)),
            float(values.get("expires_in", 600)),
        )
    except (KeyError, TypeError, ValueError) as error:
        raise _unavailable(f"{endpoint} gives no code to enter") from error


async def await_device_login(
    client: OAuthClient, code: DeviceCode, sleep: Callable[[float], Awaitable[None]] = asyncio.sleep
) -> Granted:
    """Ask until the person has logged in (RFC 8628 3.4, 3.5). Raises TokenFailed."""
    form = {"grant_type": DEVICE_GRANT, "client_id": client.client_id, "device_code": code.secret.reveal()}
    if client.client_secret is not None:
        form["client_secret"] = client.client_secret.reveal()
    interval, left = max(code.interval, 1.0), code.seconds
    while left > 0:
        await sleep(interval)
        left -= interval
        try:
            return _granted(await _post(client.token_endpoint, form, client.trust), client.token_endpoint)
        except TokenFailed as failure:
            if failure.error == "slow_down":
                interval += SLOWER
            elif failure.error != "authorization_pending":
                raise
    raise TokenFailed(Cause.TOKEN_REFUSED, "the code was not entered in time", "expired_token")


def _granted(values: Mapping[str, Any], endpoint: str) -> Granted:
    access, refresh = values.get("access_token"), values.get("refresh_token")
    if not isinstance(access, str) or not access.isprintable() or not access:
        raise _unavailable(f"{endpoint} answers without a token")
    try:
        seconds = float(values.get("expires_in") or LIFETIME)
    except (TypeError, ValueError):
        seconds = LIFETIME
    return Granted(Secret(access), seconds, Secret(refresh) if isinstance(refresh, str) and refresh else None)


async def _post(endpoint: str, form: dict[str, str], trust: str) -> dict[str, Any]:
    """The values of a good reply. Raises TokenFailed."""
    status, values = await _send("POST", endpoint, form, trust)
    if status == 200:
        return values
    error = str(values.get("error", ""))[:60]
    told = "; ".join(filter(None, (error, str(values.get("error_description", ""))[:200])))
    text = f"{endpoint} answers {status}{': ' * bool(told)}{told}"
    cause = Cause.TOKEN_REFUSED if error in FINAL else Cause.TOKEN_UNAVAILABLE
    raise TokenFailed(cause, text, error)


async def _send(method: str, where: str, form: dict[str, str] | None, trust: str) -> tuple[int, dict[str, Any]]:
    """The status and the JSON object of a reply, which may be none. Raises TokenFailed."""
    if not _may_carry_secrets(where):
        raise _unavailable(f"{where} is not https: secrets are not sent there")
    try:
        status, octets = await fetch(
            method,
            where,
            seconds=SECONDS,
            limit=MAX_REPLY,
            trust=trust,
            headers={"Accept": "application/json"},
            data=form,
        )
    except WebFailed as error:
        raise _unavailable(f"{where}: {error}") from error
    try:
        values = json.loads(octets)
    except ValueError:
        values = {}
    return status, values if isinstance(values, dict) else {}


def _may_carry_secrets(where: str) -> bool:
    parts = urlsplit(where)
    return parts.scheme == "https" or (parts.scheme == "http" and parts.hostname in ("127.0.0.1", "::1", "localhost"))


def _unavailable(text: str) -> TokenFailed:
    return TokenFailed(Cause.TOKEN_UNAVAILABLE, text)
