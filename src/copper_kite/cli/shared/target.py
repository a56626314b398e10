"""The server to test and how to connect to it: the options that `probe`, `send`, `talk` and `play` share."""

from __future__ import annotations

import socket
from collections.abc import Mapping
from dataclasses import dataclass, field, fields, replace
from typing import TYPE_CHECKING, Any

import click

from copper_kite.cli.shared.options import load_settings
from copper_kite.cli.shared.passwords import password_options, read_password
from copper_kite.errors import Finding, InputError, SettingsError

if TYPE_CHECKING:
    from collections.abc import Sequence

    from copper_kite.net import Plan, Timeouts
    from copper_kite.settings import Connector, Credential, Endpoint, Loaded

__all__ = [
    "SUBMISSION_PORT",
    "Target",
    "connector_target",
    "credentials_of",
    "find_target",
    "named_connector",
    "outward_recipient",
    "outward_recipients",
    "own_name",
    "refuse_options",
    "target_options",
]

SUBMISSION_PORT, IMPLICIT_PORT = 587, 465  # RFC 6409 3.1, RFC 8314 3.3
BOUND_OF = {"hello": "command", "login": "command", "sender": "command", "recipient": "command", "content": "data"}


@dataclass(frozen=True, slots=True, kw_only=True)
class Target:
    """A server to test: how to connect to it, the facts for sentences, and the configuration if there is one."""

    plan: Plan
    loaded: Loaded | None
    facts: Mapping[str, Any] = field(default_factory=dict)

    @property
    def where(self) -> str:
        """The server as commands name it."""
        return self.plan.where


def target_options(command: click.Command) -> click.Command:
    """The options, before those that the command has of its own."""
    options: list[click.Parameter] = [
        click.Option(["--connector"], metavar="NAME", help="Connect to this connector's next hop with its settings."),
        click.Option(
            ["--tls"],
            type=click.Choice(["starttls", "implicit", "off"]),
            help="TLS mode.  [default: implicit at port 465, else starttls]",
        ),
        click.Option(["--trust"], metavar="FILE", help="Trust certificates of this CA (PEM).  [default: the system's]"),
        click.Option(["--name"], help="Name to give in EHLO.  [default: that of the configuration]"),
        click.Option(["--login"], metavar="LOGIN", help="Log in; prompts for the password unless an option gives it."),
        click.Option(["--credential"], metavar="NAME", help="Log in with this credential of the configuration."),
    ]
    arguments = [item for item in command.params if isinstance(item, click.Argument)]
    own = [item for item in command.params if not isinstance(item, click.Argument)]
    command.params = [*arguments, *options]
    password_options(command)
    command.params.append(
        click.Option(
            ["--timeout"],
            multiple=True,
            metavar="[STAGE=]TIME",
            help="Timeout of each stage, or of one, as in greet=5s.",
        )
    )
    command.params += own
    return command


def maybe_settings(config: str | None) -> Loaded | None:
    """The configuration; a test needs none, so one that was not asked for may be missing, or broken."""
    if config:
        return load_settings(config)
    try:
        return load_settings(config)
    except SettingsError:
        return None


def find_target(config: str | None, server: Endpoint | None, given: dict[str, Any], *, needed: bool = True) -> Target:
    """The target of a command line; takes its options out of `given`. Raises InputError, SettingsError.

    Where none is `needed` and none is named, its plan leads nowhere.
    """
    options = {key: given.pop(key) for key in _KEYS}
    connector = options["connector"]
    if server and connector:
        raise InputError("name a server or a connector, not both", usage=True)
    if connector:
        target = connector_target(config, connector)
    elif server or not needed:
        target = _of_server(config, server)
    else:
        raise InputError("name a server, or a connector with --connector", usage=True)
    _check_trust(options["trust"])
    changes = {key: options[key] for key in ("tls", "trust", "name") if options[key]}
    plan = replace(target.plan, timeouts=_timeouts(options["timeout"]), **changes)
    credential = _login(target, options)
    return replace(target, plan=plan if credential is None else plan.logging_in_as(credential))


def refuse_options(given: dict[str, Any]) -> None:
    """Refuse the options of a target where the command has one of its own; takes them out of `given`."""
    wrong = [f"--{key.replace('_', '-')}" for key in _KEYS if given.pop(key)]
    if wrong:
        raise InputError(f"{', '.join(wrong)} says how to meet a --server or a --connector; name one", usage=True)


_KEYS = (
    "connector", "tls", "trust", "name", "login", "credential",
    "password_stdin", "password_env", "password_command", "timeout",
)  # fmt: skip


def connector_target(config: str | None, name: str) -> Target:
    """The first next hop of a connector, by its settings, with the patience of a test. Raises InputError."""
    from copper_kite.routing import make_plan
    from copper_kite.session import PATIENCE

    loaded = load_settings(config, secrets=True)
    entry = named_connector(loaded, name)
    if entry.mx:
        say = f"{name} goes to each domain's own mail exchangers; kite connector test {name} --to meets those of one"
        raise InputError(say, usage=True)
    facts = {"connector": name, "credential": entry.credential}
    return Target(plan=replace(make_plan(loaded, entry), timeouts=PATIENCE), loaded=loaded, facts=facts)


def named_connector(loaded: Loaded, name: str) -> Connector:
    """The connector of that name. Raises InputError."""
    from copper_kite.cli.shared.editing import near

    entries = {entry.name: entry for entry in loaded.settings.connector}
    if name not in entries:
        raise near(name, list(entries), "connector")
    return entries[name]


def _of_server(config: str | None, server: Endpoint | None) -> Target:
    from copper_kite.net import Plan
    from copper_kite.routing import dns_of

    loaded = maybe_settings(config)
    if server is None:
        return Target(plan=Plan(host="", port=0, name=own_name(loaded)), loaded=loaded)
    tls = "off" if server.path else "implicit" if server.port == IMPLICIT_PORT else "starttls"
    host = server.host or "localhost"
    dns = dns_of(loaded) if loaded is not None else "system"
    plan = Plan(host=host, port=server.port, path=server.path, name=own_name(loaded), tls=tls, dns=dns)
    return Target(plan=plan, loaded=loaded)


def outward_recipients(target: Target, recipients: Sequence[str]) -> tuple[str, ...]:
    """Names of this machine as their mail leaves, as `kite pipe` takes them; all else as it is."""
    if target.loaded is None:
        return tuple(recipients)
    return tuple(outward_recipient(target.loaded, recipient) for recipient in recipients)


def outward_recipient(loaded: Loaded, recipient: str) -> str:
    """The same for one address. Raises InputError for an invalid one."""
    from copper_kite.routing import Outward
    from copper_kite.smtp import is_mailbox

    outward = Outward(loaded.settings.identity, loaded.server_name)
    result = recipient if "@" in recipient else outward.recipient(recipient) or recipient
    if not is_mailbox(result):
        raise InputError(f"{result!r} is not an address with a domain", usage=True)
    return result


def own_name(loaded: Loaded | None) -> str:
    """The name for EHLO: from the configuration, else from the system."""
    return loaded.server_name if loaded is not None else socket.getfqdn()


def _check_trust(file: str | None) -> None:
    import ssl

    from copper_kite.net import client_context

    try:
        client_context(file or "system")
    except ssl.SSLError as error:
        raise InputError(f"{file}: not a CA's certificate in PEM form", usage=True) from error
    except OSError as error:
        raise InputError(f"{file}: cannot be read ({error.strerror})", usage=True) from error


def _login(target: Target, options: Mapping[str, Any]) -> Credential | None:
    """The login name from the command line, if there is one."""
    from copper_kite.settings import Credential
    from copper_kite.smtp import Secret

    if options["credential"]:
        return _credential(target.loaded, options["credential"])
    given = read_password(options["password_stdin"], options["password_env"], options["password_command"])
    login = options["login"]
    if not login:
        if given is not None:
            raise InputError("a password needs a --login", usage=True)
        return None
    password = Secret(given or click.prompt(f"password of {login}", hide_input=True, err=True))
    return Credential("", login, password=password)


def _credential(loaded: Loaded | None, name: str) -> Credential:
    from copper_kite.cli.shared.editing import near

    if loaded is None:
        raise InputError("a credential is one of the configuration's, and there is none; use --login", usage=True)
    findings: list[Finding] = []
    result = credentials_of(loaded, findings)
    if findings:
        raise SettingsError(findings)
    if name not in result:
        raise near(name, list(result), "credential")
    return result[name]


def credentials_of(loaded: Loaded | None, findings: list[Finding]) -> dict[str, Credential]:
    """All credentials of a configuration, used or not; what is wrong with them is added to `findings`."""
    from copper_kite.settings import read_credentials, secret_file

    if loaded is None:
        return {}
    return read_credentials(secret_file(loaded.path, loaded.settings.server.credentials), findings)


def _timeouts(given: tuple[str, ...]) -> Timeouts:
    from copper_kite.session import PATIENCE

    known = [item.name for item in fields(PATIENCE)]
    bounds: dict[str, float] = {}
    for text in given:
        stage, named, value = text.partition("=")
        if not named:  # every stage
            bounds |= dict.fromkeys(known, _duration(stage))
            continue
        bound = BOUND_OF.get(stage, stage)
        if bound not in known:
            raise click.BadParameter(
                f"{stage!r} is no stage; they are {', '.join(_stages(known))}", param_hint="--timeout"
            )
        bounds[bound] = _duration(value)
    return replace(PATIENCE, **bounds)


def _duration(text: str) -> float:
    from copper_kite.settings import parse_duration

    try:
        return parse_duration(text)
    except ValueError as error:
        raise click.BadParameter(str(error), param_hint="--timeout") from error


def _stages(known: list[str]) -> list[str]:
    return [*(name for name in known if name not in ("command", "data", "block")), *BOUND_OF]
