"""`kite catch`."""

from __future__ import annotations

import asyncio
import json
import signal
import time
from pathlib import Path
from typing import TYPE_CHECKING

import click

from copper_kite.cli.show import json_time, local_time, size
from copper_kite.errors import Finding, SettingsError

if TYPE_CHECKING:
    from copper_kite.session.standin import Caught, StandInPlan
    from copper_kite.smtp.sasl import Secret

__all__ = ["catch"]


@click.command()
@click.argument("address", default="127.0.0.1:2587", metavar="[ADDRESS:PORT]")
@click.option("--name", default="localhost", show_default=True, help="Its name, also in its certificate.")
@click.option("--folder", default="caught", show_default=True, help="Where messages and the certificate are kept.")
@click.option("--tls", type=click.Choice(["starttls", "implicit", "off"]), default="starttls", show_default=True)
@click.option(
    "--credentials", metavar="FILE", help="Logins to take, as in a credentials.toml; with any, one is needed."
)
@click.option("--put-off", multiple=True, metavar="PATTERN", help="Recipients to answer 450; * and ? stand for others.")
@click.option("--refuse", multiple=True, metavar="PATTERN", help="Recipients to answer 550.")
@click.option("--json", "as_json", is_flag=True, help="One JSON object a line for each message.")
def catch(
    address: str,
    name: str,
    folder: str,
    tls: str,
    credentials: str | None,
    put_off: tuple[str, ...],
    refuse: tuple[str, ...],
    as_json: bool,
) -> None:
    """Be a stand-in smart host that keeps what it is sent, until Ctrl-C.

    Its certificate comes from an authority made on the spot: a connector trusts it with `trust = "…/ca.pem"`.
    """
    from copper_kite.session.standin import PUT_OFF, REFUSED, Rule, StandInPlan
    from copper_kite.settings.units import parse_endpoint

    try:
        endpoint = parse_endpoint(address, default_port=2587)
    except ValueError as error:
        raise click.BadParameter(str(error), param_hint="ADDRESS:PORT") from error
    path = Path(folder)
    rules = [Rule(pattern, PUT_OFF) for pattern in put_off] + [Rule(pattern, REFUSED) for pattern in refuse]
    context = None
    if tls != "off":
        from copper_kite.net.authority import make_authority
        from copper_kite.settings.server_tls import server_context

        names = list(dict.fromkeys([name, "localhost", "127.0.0.1", "::1"]))
        files = make_authority(path / "tls", names)
        context = server_context(str(files.certificate), str(files.key))
    plan = StandInPlan(name=name, folder=path, tls=tls, context=context, logins=_logins(credentials), rules=rules)
    asyncio.run(_run(plan, endpoint.host, endpoint.port, as_json))


def _logins(credentials: str | None) -> dict[str, Secret]:
    if credentials is None:
        return {}
    from copper_kite.settings.secrets import read_credentials

    findings: list[Finding] = []
    found = read_credentials(Path(credentials), findings)
    if findings:
        raise SettingsError(findings)
    return {credential.login: credential.password for credential in found.values()}


async def _run(plan: StandInPlan, host: str, port: int, as_json: bool) -> None:
    from copper_kite.session.standin import StandIn

    told = asyncio.Event()
    for number in (signal.SIGTERM, signal.SIGINT):
        asyncio.get_running_loop().add_signal_handler(number, told.set)
    stand_in = StandIn(plan, lambda caught: click.echo(_caught_json(caught) if as_json else _caught_line(caught)))
    port = await stand_in.start(host, port)
    click.echo(f"{plan.name} takes mail on {host}:{port}, TLS {plan.tls}; messages go to {plan.folder}", err=True)
    if plan.context is not None and plan.folder is not None:
        click.echo(f'connectors trust it with: trust = "{(plan.folder / "tls" / "ca.pem").absolute()}"', err=True)
    await told.wait()
    await stand_in.stop()
    click.echo(f"caught {stand_in.count} messages", err=True)


def _caught_line(caught: Caught) -> str:
    tls = "TLS" if caught.secure else "no TLS"
    login = f", login {caught.login}" if caught.login else ""
    whom = ", ".join(caught.recipients)
    return (
        f"{local_time(time.time())}  {caught.number:06}  <{caught.reverse_path}> → {whom}"
        f"  {size(caught.size)}  from {caught.peer} ({tls}{login})"
    )


def _caught_json(caught: Caught) -> str:
    return json.dumps(
        {
            "time": json_time(time.time()),
            "number": caught.number,
            "from": caught.reverse_path,
            "to": list(caught.recipients),
            "size": caught.size,
            "client": caught.peer.address,
            "tls": caught.secure,
            "login": caught.login or None,
            "file": str(caught.file) if caught.file else None,
        },
        ensure_ascii=False,
    )
