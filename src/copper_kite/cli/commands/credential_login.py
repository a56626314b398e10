"""`kite credential login`: a credential that gets access tokens (OAuth 2)."""

from __future__ import annotations

import asyncio
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from copper_kite.cli.output.show import echo, say
from copper_kite.cli.shared.passwords import read_password
from copper_kite.errors import InputError

if TYPE_CHECKING:
    from copper_kite.net import DeviceCode

__all__ = ["get_tokens", "login_options"]


def login_options(command: click.Command) -> click.Command:
    """The options of `kite credential login`."""
    command.params += [
        click.Option(["--issuer"], metavar="URL", required=True, help="The token server, as the provider names it."),
        click.Option(["--client-id"], metavar="ID", required=True, help="What this server is registered as there."),
        click.Option(["--scope"], default="", help="What the token is for, as the provider names it."),
        click.Option(["--login"], metavar="LOGIN", help="Whose mail it sends; prompts for it if not given."),
        click.Option(["--trust"], metavar="FILE", default="system", help="CA file to verify the token server with."),
        click.Option(["--own-secret"], is_flag=True, help="The client has a secret of its own, and no person logs in."),
    ]
    return command


def get_tokens(name: str, given: dict[str, Any], source: dict[str, Any], folder: Path) -> dict[str, str]:
    """Log in, and give what the credential is to say. Raises InputError, TokenFailed."""
    secret = ""
    if given["own_secret"] or any(source.values()):
        secret = read_password(**source) or click.prompt("secret of the client", hide_input=True, err=True)
    trust = given["trust"] if given["trust"] == "system" else str(Path(given["trust"]).absolute())
    return asyncio.run(_log_in(name, {**given, "trust": trust}, secret, folder))


async def _log_in(name: str, given: dict[str, Any], secret: str, folder: Path) -> dict[str, str]:
    from copper_kite.net import await_device_login, find_metadata, request_token, start_device_login
    from copper_kite.settings import OAuthClient
    from copper_kite.smtp import Secret

    trust = given["trust"]
    metadata = await find_metadata(given["issuer"], trust)
    client = OAuthClient(
        name, metadata.token, given["client_id"], Secret(secret) if secret else None, given["scope"], None, trust
    )
    values = {"token_endpoint": metadata.token, "client_id": given["client_id"]}
    more = {"client_secret": secret, "scope": given["scope"], "trust": _relative(trust, folder)}
    if given["own_secret"]:
        await request_token(client, None)  # whether that works at all
        return {**values, **{key: value for key, value in more.items() if value}}
    if not metadata.device:
        raise InputError(f"{given['issuer']} has no login for devices; a client with a secret of its own: --own-secret")
    code = await start_device_login(client, metadata.device)
    _show(code)
    granted = await await_device_login(client, code)
    if granted.refresh is None:
        raise InputError("the token server gives no refresh token; most do with --scope offline_access")
    more["refresh_token"] = granted.refresh.reveal()
    return {**values, **{key: value for key, value in more.items() if value}}


def _relative(trust: str, folder: Path) -> str:
    path = Path(trust)
    if trust == "system":
        return ""
    return str(path.relative_to(folder)) if path.is_relative_to(folder) else trust


def _show(code: DeviceCode) -> None:
    echo("In any browser, open", err=True)
    say(("  " + (code.complete or code.where), "bold"))
    echo(f"and enter the code {code.user_code}; waiting for that, for {code.seconds / 60:.0f} minutes", err=True)
