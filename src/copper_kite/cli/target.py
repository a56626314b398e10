"""Which server a test is for, and how it is to be met: the options that `probe`, `send`, `talk` and `play` share."""

from __future__ import annotations

import socket
from collections.abc import Mapping
from dataclasses import dataclass, field, fields, replace
from typing import TYPE_CHECKING, Any

import click

from copper_kite.cli.credential import password_options, read_password
from copper_kite.cli.options import load_settings
from copper_kite.errors import InputError, SettingsError

if TYPE_CHECKING:
    from copper_kite.net.plan import Plan, Timeouts
    from copper_kite.settings.load import Loaded
    from copper_kite.settings.secrets import Credential
    from copper_kite.smtp.sasl import Secret

__all__ = ["Target", "find_target", "maybe_settings", "own_name", "target_options"]

SUBMISSION_PORT, IMPLICIT_PORT = 587, 465  # RFC 6409 3.1, RFC 8314 3.3
BOUND_OF = {"hello": "command", "login": "command", "sender": "command", "recipient": "command", "content": "data"}


@dataclass(frozen=True, slots=True, kw_only=True)
class Target:
    """A server to test: how to meet it, what sentences may name, and the configuration if there is one."""

    plan: Plan
    loaded: Loaded | None
    facts: Mapping[str, Any] = field(default_factory=dict)

    @property
    def where(self) -> str:
        """As people name it."""
        plan = self.plan
        return f"unix:{plan.path}" if plan.path else f"{plan.host}:{plan.port}"


def target_options(command: click.Command) -> click.Command:
    """The options, before those that the command has of its own."""
    options: list[click.Parameter] = [
        click.Option(["--connector"], metavar="NAME", help="Meet the next hop of this connector, by its settings."),
        click.Option(
            ["--tls"],
            type=click.Choice(["starttls", "implicit", "off"]),
            help="How TLS begins.  [default: implicit at port 465, else starttls]",
        ),
        click.Option(
            ["--trust"], metavar="FILE", help="Believe certificates of this CA (PEM).  [default: the system's]"
        ),
        click.Option(["--name"], help="What to call ourselves in EHLO.  [default: that of the configuration]"),
        click.Option(["--login"], metavar="LOGIN", help="Log in; the password is asked for unless an option gives it."),
        click.Option(["--credential"], metavar="NAME", help="Log in with this credential of the configuration."),
    ]
    arguments = [one for one in command.params if isinstance(one, click.Argument)]
    own = [one for one in command.params if not isinstance(one, click.Argument)]
    command.params = [*arguments, *options]
    password_options(command)
    command.params.append(
        click.Option(
            ["--timeout"], multiple=True, metavar="STAGE=TIME", help="How long a stage may take, as in greet=5s."
        )
    )
    command.params += own
    return command


def maybe_settings(config: str | None) -> Loaded | None:
    """The configuration, when there is one that can be used; a test needs none."""
    try:
        return load_settings(config)
    except SettingsError:
        return None


def find_target(config: str | None, server: str | None, given: dict[str, Any]) -> Target:
    """The target of a command line; takes its options out of `given`. Raises InputError, SettingsError."""
    options = {key: given.pop(key) for key in _KEYS}
    if (server is None) == (options["connector"] is None):
        raise InputError("name a server, or a connector with --connector", usage=True)
    target = _of_connector(config, options) if server is None else _of_server(config, server, options)
    _check_trust(options["trust"])
    login, password = _login(target, options)
    changes = {key: options[key] for key in ("tls", "trust", "name") if options[key]}
    if login:
        changes |= {"login": login, "password": password}
    return replace(target, plan=replace(target.plan, timeouts=_timeouts(options["timeout"]), **changes))


_KEYS = (
    "connector", "tls", "trust", "name", "login", "credential",
    "password_stdin", "password_env", "password_command", "timeout",
)  # fmt: skip


def _of_connector(config: str | None, options: Mapping[str, Any]) -> Target:
    from copper_kite.cli.editing import near
    from copper_kite.routing.plan import make_plan

    loaded = load_settings(config, secrets=True)
    entries = {entry.name: entry for entry in loaded.settings.connector}
    name = options["connector"]
    if name not in entries:
        raise near(name, list(entries), "connector")
    if entries[name].mx:
        raise InputError(f"{name} goes to many mail exchangers; name one of them: kite probe HOST:25", usage=True)
    facts = {"connector": name, "config": str(loaded.path), "credential": entries[name].credential}
    return Target(plan=make_plan(loaded, entries[name]), loaded=loaded, facts=facts)


def _of_server(config: str | None, server: str, options: Mapping[str, Any]) -> Target:
    from copper_kite.net.plan import Plan
    from copper_kite.settings.units import parse_endpoint

    try:
        endpoint = parse_endpoint(server, default_port=SUBMISSION_PORT)
    except ValueError as error:
        raise click.BadParameter(str(error), param_hint="HOST[:PORT]") from error
    loaded = maybe_settings(config)
    tls = "off" if endpoint.path else "implicit" if endpoint.port == IMPLICIT_PORT else "starttls"
    host = endpoint.host or "localhost"
    plan = Plan(host=host, port=endpoint.port, path=endpoint.path, name=own_name(loaded), tls=tls)
    return Target(plan=plan, loaded=loaded)


def own_name(loaded: Loaded | None) -> str:
    """What we call ourselves: as the configuration has it, else as the system does."""
    return loaded.server_name if loaded is not None else socket.getfqdn()


def _check_trust(file: str | None) -> None:
    import ssl

    from copper_kite.net.tls import client_context

    try:
        client_context(file or "system")
    except ssl.SSLError as error:
        raise InputError(f"{file}: not a CA's certificate in PEM form", usage=True) from error
    except OSError as error:
        raise InputError(f"{file}: cannot be read ({error.strerror})", usage=True) from error


def _login(target: Target, options: Mapping[str, Any]) -> tuple[str, Secret | None]:
    from copper_kite.smtp.sasl import Secret

    if options["credential"]:
        credential = _credential(target.loaded, options["credential"])
        return credential.login, credential.password
    given = read_password(options["password_stdin"], options["password_env"], options["password_command"])
    if not options["login"]:
        if given is not None:
            raise InputError("a password needs a --login", usage=True)
        return "", None
    login = options["login"]
    return login, Secret(given or click.prompt(f"password of {login}", hide_input=True, err=True))


def _credential(loaded: Loaded | None, name: str) -> Credential:
    from copper_kite.cli.editing import near
    from copper_kite.settings.load import secret_file
    from copper_kite.settings.secrets import read_credentials

    if loaded is None:
        raise InputError("a credential is one of the configuration's, and there is none; use --login", usage=True)
    findings: list[Any] = []
    found = read_credentials(secret_file(loaded.path, loaded.settings.server.credentials), findings)
    if findings:
        raise SettingsError(findings)
    if name not in found:
        raise near(name, list(found), "credential")
    return found[name]


def _timeouts(given: tuple[str, ...]) -> Timeouts:
    from copper_kite.session.probe import PATIENCE
    from copper_kite.settings.units import parse_duration

    known = [one.name for one in fields(PATIENCE)]
    bounds = {}
    for text in given:
        stage, _, value = text.partition("=")
        bound = BOUND_OF.get(stage, stage)
        if bound not in known:
            raise click.BadParameter(
                f"{stage!r} is no stage; they are {', '.join(_stages(known))}", param_hint="--timeout"
            )
        try:
            bounds[bound] = parse_duration(value)
        except ValueError as error:
            raise click.BadParameter(str(error), param_hint="--timeout") from error
    return replace(PATIENCE, **bounds)


def _stages(known: list[str]) -> list[str]:
    return [*(name for name in known if name not in ("command", "data", "block")), *BOUND_OF]
