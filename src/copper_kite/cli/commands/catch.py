"""`kite catch`: a stand-in smart host, and what it has kept."""

from __future__ import annotations

import asyncio
import secrets
import signal
import ssl
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from copper_kite.cli.commands.catch_web import start_policy_host, start_token_server, web_options
from copper_kite.cli.output.show import echo, json_text, local_time, print_json, print_table, say, size
from copper_kite.cli.shared.options import Endpoints, json_option
from copper_kite.errors import Finding, InputError, SettingsError

if TYPE_CHECKING:
    from copper_kite.net import CertificateFiles
    from copper_kite.session import Behaviour, Capture, Caught, StandInPlan
    from copper_kite.settings import Endpoint
    from copper_kite.smtp import Secret

__all__ = ["catch"]

DEFAULT_PORT = 2587


class _Catch(click.Group):
    """`kite catch ADDRESS` is `kite catch run ADDRESS`."""

    def parse_args(self, ctx: click.Context, args: list[str]) -> list[str]:
        if not args or (args[0] not in self.commands and args[0] not in ("--help", "-h")):
            args = ["run", *args]
        return super().parse_args(ctx, args)


@click.group(cls=_Catch)
def catch() -> None:
    """Run a stand-in smart host that stores what it receives, and inspect what it stored.

    `kite catch [ADDRESS:PORT]...` runs it until Ctrl-C; its options are those of `kite catch run`.
    """


folder_option = click.option(
    "--folder", default="caught", show_default=True, type=click.Path(path_type=Path), help="Folder of the messages."
)


@catch.command()
@click.argument("addresses", nargs=-1, type=Endpoints(DEFAULT_PORT), metavar="[ADDRESS:PORT]...")
@click.option("--name", help="Its name, also in its certificate.  [default: localhost]")
@folder_option
@click.option("--tls", type=click.Choice(["starttls", "implicit", "off"]), help="[default: starttls]")
@click.option("--certificate", metavar="FILE", help="Certificate (PEM, with --key) to use instead of a generated one.")
@click.option("--key", metavar="FILE", help="Its private key.")
@click.option("--credentials", metavar="FILE", help="Logins to accept (a credentials.toml); a login is then required.")
@click.option("--behave", metavar="FILE", help="Behaviour file, see `kite help stand-ins`.")
@click.option("--put-off", multiple=True, metavar="PATTERN", help="Recipients to answer with 450; * and ? match.")
@click.option("--refuse", multiple=True, metavar="PATTERN", help="Recipients to answer with 550.")
@web_options
@click.option("--json", "as_json", is_flag=True, help="Print one line of JSON for each message.")
def run(
    addresses: tuple[Endpoint, ...],
    name: str | None,
    folder: Path,
    tls: str | None,
    certificate: str | None,
    key: str | None,
    credentials: str | None,
    behave: str | None,
    put_off: tuple[str, ...],
    refuse: tuple[str, ...],
    as_json: bool,
    **web: Any,
) -> None:
    """Accept mail until Ctrl-C: on 127.0.0.1:2587, or on each ADDRESS:PORT.

    Its certificate comes from an authority made on the spot: a connector trusts it with `trust = "…/ca.pem"`.
    """
    from copper_kite.session import PUT_OFF, REFUSED, Behaviour, Rule, read_behaviour
    from copper_kite.settings import Endpoint
    from copper_kite.smtp import Secret

    if any(address.path for address in addresses):
        raise click.BadParameter("a stand-in listens on TCP addresses", param_hint="ADDRESS:PORT")
    endpoints = addresses or (Endpoint("127.0.0.1", DEFAULT_PORT),)
    behaviour = read_behaviour(Path(behave)) if behave else Behaviour()
    changes: dict[str, Any] = {"tls": behaviour.tls.model_copy(update={"mode": tls} if tls else {})}
    behaviour = behaviour.model_copy(update=changes | ({"name": name} if name else {}))
    rules = [Rule(pattern, PUT_OFF) for pattern in put_off] + [Rule(pattern, REFUSED) for pattern in refuse]
    logins = _logins(credentials)
    if web["tokens_at"] is not None:
        logins |= {login: Secret(secrets.token_urlsafe()) for login in web["token_logins"] or ("ticketing",)}
    plan = _plan(behaviour, folder, logins, _files(certificate, key), rules)
    asyncio.run(_run(plan, endpoints, web, as_json))


def _files(certificate: str | None, key: str | None) -> CertificateFiles | None:
    from copper_kite.net import CertificateFiles

    if certificate is None and key is None:
        return None
    if certificate is None or key is None:
        raise InputError("a certificate needs its key, and a key its certificate", usage=True)
    return CertificateFiles(Path(certificate), Path(certificate), Path(key))


def _plan(
    behaviour: Behaviour,
    folder: Path,
    logins: dict[str, Secret],
    files: CertificateFiles | None,
    rules: list[Any],
) -> StandInPlan:
    from dataclasses import replace

    from copper_kite.session import stage_stand_in

    try:
        plan = stage_stand_in(behaviour, folder, logins, files)
    except (OSError, ssl.SSLError) as error:
        raise InputError(f"certificate or key cannot be used: {str(error).lower()}") from error
    return replace(plan, rules=(*rules, *plan.rules))


def _logins(credentials: str | None) -> dict[str, Secret]:
    if credentials is None:
        return {}
    from copper_kite.settings import read_credentials

    findings: list[Finding] = []
    result = read_credentials(Path(credentials), findings)
    if findings:
        raise SettingsError(findings)
    known = {item.login: item.password or item.token for item in result.values()}
    return {login: secret for login, secret in known.items() if secret is not None}


async def _run(plan: StandInPlan, endpoints: Sequence[Endpoint], web: dict[str, Any], as_json: bool) -> None:
    from dataclasses import replace

    from copper_kite.session import StandIn, TokenStandIn

    servers = []
    if web["tokens_at"] is not None:
        tokens = TokenStandIn(lifetime=web["token_lifetime"], fault=web["token_fault"])
        servers.append(await start_token_server(tokens, web["tokens_at"]))
        plan = replace(plan, tokens=tokens)
    if web["policies"]:
        servers.append(await start_policy_host(web["policies"], web["policy_at"], plan.folder or Path()))
    told = asyncio.Event()
    for number in (signal.SIGTERM, signal.SIGINT):
        asyncio.get_running_loop().add_signal_handler(number, told.set)
    caught = 0

    def tell(message: Caught) -> None:
        nonlocal caught
        caught += 1
        echo(json_text(message.export()) if as_json else _caught_line(message))

    stand_in = StandIn(plan, tell)
    for endpoint in endpoints:
        await stand_in.start(endpoint.host, endpoint.port)
        echo(f"{plan.name} takes mail on {endpoint}, TLS {plan.tls}; messages go to {plan.folder}", err=True)
    if plan.authority is not None:
        echo(f'connectors trust it with: trust = "{plan.authority.absolute()}"', err=True)
    await told.wait()
    await stand_in.stop()
    for server in servers:
        await server.stop()
    echo(f"caught {caught} messages", err=True)


def _caught_line(caught: Caught) -> str:
    tls = caught.tls.partition(" ")[0] or "no TLS"
    login = f", login {caught.login}" if caught.login else ""
    whom = ", ".join(caught.recipients)
    return (
        f"{local_time(caught.at)}  {caught.number:06}  <{caught.reverse_path}> to {whom}"
        f"  {size(caught.size)}  from {caught.peer} ({tls}{login})"
    )


# --- what it kept ----------------------------------------------------------------------------------------------------


@catch.command("list")
@folder_option
@json_option
def list_captures(folder: Path, as_json: bool) -> None:
    """List the messages kept in a folder."""
    from copper_kite.session import read_captures

    result = read_captures(folder)
    if as_json:
        print_json([capture.facts | {"number": capture.number} for capture in result])
        return
    print_table(
        ("number", "time", "size", "TLS", "from", "to"),
        [_row(capture) for capture in result],
        right=("size",),
        wraps=True,
    )


def _row(capture: Capture) -> list[str]:
    facts = capture.facts
    return [
        f"{capture.number:06}",
        _time(facts),
        size(capture.file.stat().st_size),
        str(facts.get("tls") or "no").partition(" ")[0],
        f"<{facts.get('from', '?')}>",
        ", ".join(facts.get("to", [])),
    ]


def _time(facts: dict[str, Any]) -> str:
    from datetime import datetime

    try:
        return local_time(datetime.fromisoformat(facts["time"]).timestamp())
    except (KeyError, TypeError, ValueError):
        return "?"


@catch.command("show")
@click.argument("number", type=int)
@folder_option
@json_option
def show_capture(number: int, folder: Path, as_json: bool) -> None:
    """Show one message: its envelope, its session, and its text."""
    from copper_kite.session import find_capture

    capture = find_capture(folder, number)
    content = capture.content
    if as_json:
        print_json(capture.facts | {"number": number, "content": content.decode("utf-8", "backslashreplace")})
        return
    facts = capture.facts
    keys = ("time", "from", "to", "client", "hello", "tls", "login", "size")
    shown = facts | {"time": _time(facts), "size": size(len(content)), "to": ", ".join(facts.get("to", []))}
    rows = [(key, str(shown.get(key) or "-")) for key in keys]
    print_table(("key", "value"), rows, wraps=True)
    echo()
    _echo_text(content)


@catch.command("headers")
@click.argument("number", type=int)
@folder_option
def show_headers(number: int, folder: Path) -> None:
    """Print the header of one message, as it came."""
    from copper_kite.session import find_capture

    _echo_text(find_capture(folder, number).header)


def _echo_text(octets: bytes) -> None:
    """Text of unknown origin: every line as it is, but for what could harm a terminal."""
    from copper_kite.smtp import visible

    for line in octets.decode("utf-8", "backslashreplace").expandtabs().splitlines():
        echo(visible(line))


@catch.command("export")
@click.argument("numbers", nargs=-1, type=int, metavar="[NUMBER]...")
@folder_option
@click.option("--out", metavar="FILE", help="Output file; by default standard output.")
def export_captures(numbers: tuple[int, ...], folder: Path, out: str | None) -> None:
    """Export one message, or several (all without NUMBER) as an mbox file (RFC 4155)."""
    from copper_kite.mail import mbox_entry
    from copper_kite.session import find_capture, read_captures

    result = [find_capture(folder, number) for number in numbers] if numbers else read_captures(folder)
    if len(numbers) == 1:
        octets = result[0].content
    else:
        octets = b"".join(
            mbox_entry(capture.content, str(capture.facts.get("from", "")), capture.file.stat().st_mtime)
            for capture in result
        )
    if out is None:
        sys.stdout.buffer.write(octets)
        return
    Path(out).write_bytes(octets)
    say(f"{len(result)} messages, {size(len(octets))}, in {out}")


@catch.command("clear")
@folder_option
@click.option("--yes", is_flag=True, help="Do not ask.")
def clear_captures(folder: Path, yes: bool) -> None:
    """Remove the messages kept in a folder."""
    from copper_kite.session import clear_captures, read_captures

    count = len(read_captures(folder))
    echo(f"{folder} holds {count} messages")
    if count and not yes:
        click.confirm("Remove them?", abort=True)
    clear_captures(folder)
