"""The HTTP services of `kite catch`: tokens, and policies of MTA-STS."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from copper_kite.cli.output.show import echo
from copper_kite.cli.shared.options import DURATION, Endpoints
from copper_kite.errors import InputError

if TYPE_CHECKING:
    from copper_kite.session import TokenStandIn, WebStandIn
    from copper_kite.settings import Endpoint

__all__ = ["start_policy_host", "start_token_server", "web_options"]

FAULTS = ("none", "revoked", "slow", "broken", "down", "no token")


_OPTIONS = (
    click.option(
        "--tokens",
        "tokens_at",
        type=Endpoints(2580),
        metavar="ADDRESS:PORT",
        help="Also be a token server there (OAuth 2), and take its tokens as logins.",
    ),
    click.option("--token-login", "token_logins", multiple=True, metavar="LOGIN", help="Login that they are for."),
    click.option("--token-lifetime", type=DURATION, default="1h", show_default=True, help="How long a token holds."),
    click.option("--token-fault", type=click.Choice(FAULTS), default="none", help="How the token server fails."),
    click.option(
        "--policy",
        "policies",
        multiple=True,
        metavar="DOMAIN=FILE",
        help="Also be the policy host (MTA-STS) of this domain, with this policy.",
    ),
    click.option("--policy-at", type=Endpoints(443), metavar="ADDRESS:PORT", help="Where; 127.0.0.1:443 by default."),
)


def web_options(command: Callable[..., Any]) -> Callable[..., Any]:
    """The options for them."""
    for option in reversed(_OPTIONS):
        command = option(command)
    return command


async def start_token_server(tokens: TokenStandIn, at: Endpoint) -> WebStandIn:
    """Serve tokens over HTTP, on loopback alone. Raises InputError."""
    from copper_kite.session import WebStandIn

    if not at.host.startswith("127.") and at.host != "::1":
        raise InputError("the token server speaks HTTP without TLS: it listens on loopback alone", usage=True)
    server = WebStandIn(tokens.respond, None)
    port = await _start(server, at)
    tokens.issuer = f"http://{at.host}:{port}"
    echo(
        f"tokens are given at {tokens.issuer}: kite credential login NAME --issuer {tokens.issuer} --client-id x",
        err=True,
    )
    return server


async def start_policy_host(policies: Sequence[str], at: Endpoint | None, folder: Path) -> WebStandIn:
    """Serve policies over HTTPS, with a certificate for the policy hosts. Raises InputError."""
    from copper_kite.net import make_authority
    from copper_kite.session import WebStandIn, policy_responder
    from copper_kite.settings import Endpoint, server_context

    texts = dict(map(_policy, policies))
    files = make_authority(folder / "policy-tls", [f"mta-sts.{domain}" for domain in texts])
    server = WebStandIn(policy_responder(texts), server_context(str(files.certificate), str(files.key)))
    at = at or Endpoint("127.0.0.1", 443)
    port = await _start(server, at)
    echo(
        f'policies of {", ".join(texts)} are at {at.host}, port {port}; trust = "{files.authority.absolute()}"',
        err=True,
    )
    return server


async def _start(server: WebStandIn, at: Endpoint) -> int:
    try:
        return await server.start(at.host, at.port)
    except OSError as error:
        raise InputError(f"{at} cannot be listened on: {(error.strerror or str(error)).lower()}") from error


def _policy(text: str) -> tuple[str, str]:
    domain, equals, file = text.partition("=")
    if not equals:
        raise InputError(f"{text!r}: write it as DOMAIN=FILE", usage=True)
    try:
        return domain.lower(), Path(file).read_text("utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise InputError(f"{file} cannot be read: {error}") from error
