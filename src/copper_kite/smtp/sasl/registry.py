"""The SASL mechanisms: each in one line, with what a client does and what a server does.

To add one: write both sides in a module of this package, and add its line here, at its place by strength. Connectors,
listeners, the stand-in, their configuration and the tests of both sides go by this table.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import NamedTuple

from copper_kite.smtp.sasl.base import Directory, Exchange, LoginCredentials, Mechanism
from copper_kite.smtp.sasl.passwords import CramMd5, CramMd5Exchange, Login, LoginExchange, Plain, PlainExchange
from copper_kite.smtp.sasl.scram import (
    Scram,
    ScramExchange,
    ScramPlusExchange,
    ScramSha1Exchange,
    ScramSha1PlusExchange,
)
from copper_kite.smtp.sasl.tokens import OAuthBearer, OAuthBearerExchange, XOAuth2, XOAuth2Exchange

__all__ = ["MECHANISMS", "SaslMechanism", "choose_mechanism", "possible_mechanisms"]

Client = Callable[[LoginCredentials, bool], Mechanism | None]


class SaslMechanism(NamedTuple):
    """Both sides of a mechanism. `client` is given the credentials and whether any -PLUS was offered, and returns None
    where the credentials do not have what it takes."""

    client: Client
    server: Callable[[Directory], Exchange]


def _scram(digest: str, *, plus: bool) -> Client:
    def make(credentials: LoginCredentials, plus_offered: bool) -> Mechanism | None:
        if credentials.password is None:
            return None
        binding = credentials.binding
        if plus:
            return Scram(credentials, digest, f"p={binding.kind},,", binding.data) if binding is not None else None
        # `y`: we could bind, and the server did not offer it; if it did, somebody in the middle took that out
        return Scram(credentials, digest, "n,," if binding is None or plus_offered else "y,,", b"")

    return make


def _with_password(kind: Callable[[LoginCredentials], Mechanism]) -> Client:
    return lambda credentials, plus: kind(credentials) if credentials.password is not None else None


def _with_token(kind: Callable[[LoginCredentials], Mechanism]) -> Client:
    return lambda credentials, plus: kind(credentials) if credentials.token is not None else None


# The strongest first.
MECHANISMS: dict[str, SaslMechanism] = {
    "SCRAM-SHA-256-PLUS": SaslMechanism(_scram("sha256", plus=True), ScramPlusExchange),
    "SCRAM-SHA-1-PLUS": SaslMechanism(_scram("sha1", plus=True), ScramSha1PlusExchange),
    "SCRAM-SHA-256": SaslMechanism(_scram("sha256", plus=False), ScramExchange),
    "SCRAM-SHA-1": SaslMechanism(_scram("sha1", plus=False), ScramSha1Exchange),
    "OAUTHBEARER": SaslMechanism(_with_token(OAuthBearer), OAuthBearerExchange),
    "XOAUTH2": SaslMechanism(_with_token(XOAuth2), XOAuth2Exchange),
    "CRAM-MD5": SaslMechanism(_with_password(CramMd5), CramMd5Exchange),
    "PLAIN": SaslMechanism(_with_password(Plain), PlainExchange),
    "LOGIN": SaslMechanism(_with_password(Login), LoginExchange),
}


def choose_mechanism(
    offered: Sequence[str], allowed: Sequence[str], credentials: LoginCredentials, *, unbound: bool = False
) -> tuple[str, Mechanism] | None:
    """The strongest mechanism that is offered, allowed (empty: any) and possible with the credentials, or None.

    With `unbound`, none that binds the login to its TLS, which was tried.
    """
    plus_offered = any(name.endswith("-PLUS") for name in offered)
    for name, mechanism in MECHANISMS.items():
        if name not in offered or (allowed and name not in allowed) or (unbound and name.endswith("-PLUS")):
            continue
        if (attempt := mechanism.client(credentials, plus_offered)) is not None:
            return name, attempt
    return None


def possible_mechanisms(allowed: Sequence[str], credentials: LoginCredentials) -> list[str]:
    """The mechanisms that could be taken, were they offered: for words about why none was."""
    return [
        name
        for name, mechanism in MECHANISMS.items()
        if (not allowed or name in allowed) and mechanism.client(credentials, False)
    ]
