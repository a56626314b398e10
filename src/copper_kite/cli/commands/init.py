"""`kite init`."""

from __future__ import annotations

import asyncio
import time
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from copper_kite.cli.output.show import echo, print_table, say
from copper_kite.cli.shared.passwords import password_options, read_password
from copper_kite.cli.shared.questions import Asker
from copper_kite.errors import InputError, SettingsError

if TYPE_CHECKING:
    from copper_kite.session import Seen
    from copper_kite.settings import Answers, Endpoint

__all__ = ["init"]

LOOKUP_SECONDS = 3.0  # for the SRV records of a domain
NO_PORT = 65535  # stands for a port that was not given
PIN = "sha256:"


@click.command()
@click.option("--name", metavar="NAME", help="This server's full name.")
@click.option("--domain", metavar="DOMAIN", help="The domain that completes bare names, as in root.")
@click.option("--host", metavar="HOST[:PORT]", help="The smart host; else the one that DNS names for --domain.")
@click.option("--dns", metavar="RESOLVER", default="system", help="Resolver to find it by, as in [server] dns.")
@click.option(
    "--tls", type=click.Choice(["implicit", "starttls", "off"]), help="TLS mode; default: the safest that works."
)
@click.option("--trust", metavar="FILE|PIN", help="CA file (PEM) or pin to trust; by default the system's CAs.")
@click.option("--login", metavar="LOGIN", help="The login at the smart host.")
@click.option("--no-login", is_flag=True, help="Send to the smart host without a login.")
@click.option("--root", metavar="ADDRESS", help="Address that gets mail for root and postmaster.")
@click.option("--sender", metavar="ADDRESS", help="Sender address for programs that have none; by default USER@DOMAIN.")
@click.option("--data", metavar="FOLDER", help="Where the queue is kept.")
@click.option("--bind", multiple=True, metavar="ADDRESS", help="Where programs submit mail; repeat for several.")
@click.option("--folder", metavar="FOLDER", help="Where the files go; else /etc/copper-kite, or ~/.config/copper-kite.")
@click.option("--no-look", is_flag=True, help="Do not connect to the smart host.")
@click.option("--unattended", is_flag=True, help="Ask nothing; a missing value is an error.")
@click.option("--overwrite", is_flag=True, help="Replace existing files; the previous version is kept.")
@click.pass_context
def init(
    ctx: click.Context,
    /,
    password_stdin: bool,
    password_env: str | None,
    password_command: str | None,
    **given: Any,
) -> None:
    """Set up a send-only server by questions or options.

    Options skip their questions. It connects to the smart host to find its ports, TLS and logins, and proposes the
    safest that works. Run again, it offers the present values.

    Exit 1 when the configuration has an error, 4 when the smart host cannot be reached with it.
    """
    path = _target(ctx.obj, given["folder"])
    if path.exists() and not given["overwrite"] and given["unattended"]:
        raise InputError(f"{path} is there already; --overwrite writes over it", usage=True)
    ask = Asker(given["unattended"])
    answers, password = _answers(ask, given, path, read_password(password_stdin, password_env, password_command))
    ask.demand()
    _write(ask, path, answers, password, overwrite=given["overwrite"])
    ctx.exit(_check(path, live=not given["no_look"]))


password_options(init)


def _target(config: str | None, folder: str | None) -> Path:
    """The path for kite.toml."""
    import os

    if config and folder:
        raise InputError("--config and --folder name two places", usage=True)
    if config or folder:
        return Path(config) if config else Path(str(folder)) / "kite.toml"
    if os.environ.get("KITE_CONFIG"):
        return Path(os.environ["KITE_CONFIG"])
    home = Path(os.environ.get("XDG_CONFIG_HOME") or Path.home() / ".config")
    return (Path("/etc") if os.geteuid() == 0 else home) / "copper-kite" / "kite.toml"


def _answers(ask: Asker, given: dict[str, Any], path: Path, password: str | None) -> tuple[Answers, str | None]:
    """All answers, and the password where there is a login."""
    from copper_kite.settings import Answers, check_domain, default_binds, own_name

    known = _known(path)
    name = given["name"] or ask.text("--name", "This server's full name", known.name or own_name(), check_domain)
    domain = given["domain"] or ask.text(
        "--domain", "Domain of your addresses", known.domain or name.partition(".")[2], check_domain
    )
    for value in filter(None, (name, domain)):
        try:
            check_domain(value)
        except ValueError as error:
            raise InputError(str(error), usage=True) from error
    answers = Answers(name=name, domain=domain, trust=_trust(given["trust"]) or known.trust)
    answers.data = given["data"] or known.data or _default_data(path)
    answers.bind = given["bind"] or known.bind or default_binds(path.parent)
    _smart_host(ask, given, known, answers)
    if not given["no_login"]:
        password = _login(ask, given, path, known, answers, password)
    question = "Where mail for root goes, an address that somebody reads"
    answers.root = given["root"] or ask.text("--root", question, known.root, _mailbox, needed=False)
    question = f"Address of programs that have none (empty: their user's name at {domain})"
    answers.sender = given["sender"] or ask.text("--sender", question, known.sender, _mailbox, needed=False)
    for address in filter(None, (answers.root, answers.sender)):
        try:
            _mailbox(address)
        except ValueError as error:
            raise InputError(str(error), usage=True) from error
    return answers, password


def _login(
    ask: Asker, given: dict[str, Any], path: Path, known: Answers, answers: Answers, password: str | None
) -> str | None:
    """The login at the smart host, and its password."""
    question = "Login at the smart host"
    answers.login = given["login"] or ask.text("--login", f"{question} (empty: none)", known.login, str, needed=False)
    if ask.unattended and not answers.login:
        ask.lacks("--login or --no-login", question)
    if not answers.login or password is not None:
        return password
    return ask.secret(f"Password of {answers.login}", known=_known_password(path, answers))


def _mailbox(address: str) -> None:
    from copper_kite.smtp import is_mailbox

    if not is_mailbox(address):
        raise ValueError(f"{address!r} is not an address with a domain")


def _host(text: str) -> Endpoint:
    """The smart host; without a port it gets NO_PORT. Raises ValueError."""
    from copper_kite.settings import parse_endpoint

    endpoint = parse_endpoint(text, default_port=NO_PORT)
    if endpoint.path:
        raise ValueError("a smart host is a name or an address")
    return endpoint


def _trust(given: str | None) -> str:
    """The authority's file in full, since the configuration counts paths from its own folder; or a pin."""
    if given is None or given == "system" or given.startswith(PIN):
        return given or ""
    if not Path(given).is_file():
        raise InputError(f"no file {given!r}; --trust names the PEM file of an authority", usage=True)
    return str(Path(given).absolute())


def _known(path: Path) -> Answers:
    """The values of an existing file, to be offered again."""
    from copper_kite.settings import Answers, load_configuration

    try:
        loaded = load_configuration(path)
    except SettingsError:
        return Answers(data="")
    settings = loaded.settings
    answers = Answers(
        name=loaded.server_name,
        domain=settings.identity.domain or "",
        data=settings.server.data,
        root=settings.identity.recipients.get("root", ""),
        sender=settings.identity.senders.get("*", ""),
        bind=tuple(str(endpoint) for endpoint in settings.listener[0].bind) if settings.listener else (),
    )
    if settings.connector and settings.connector[0].hosts:
        first = settings.connector[0]
        answers.host, answers.port = first.next_hop.host, first.next_hop.port
        answers.tls, answers.trust = first.tls, first.trust
        if first.credential in loaded.credentials:
            answers.login = loaded.credentials[first.credential].login
    return answers


def _known_password(path: Path, answers: Answers) -> str:
    from copper_kite.settings import load_configuration

    try:
        credentials = load_configuration(path).credentials.values()
    except SettingsError:
        return ""
    return next(
        (
            credential.password.reveal()
            for credential in credentials
            if credential.password and credential.login == answers.login
        ),
        "",
    )


def _default_data(path: Path) -> str:
    return "/var/lib/copper-kite" if path.parent == Path("/etc/copper-kite") else "queue"


def _smart_host(ask: Asker, given: dict[str, Any], known: Answers, answers: Answers) -> None:
    """The smart host, and the safest way to it that is seen to work."""
    from copper_kite.settings import DEFAULT_PORTS

    default = f"{known.host}:{known.port}" if known.host else _found_in_dns(answers.domain, given)
    if ask.unattended and not given["host"]:
        given["host"] = default
    text = given["host"] or ask.text("--host", "The smart host, as name or name:port", default, _host)
    if not text:
        return
    try:
        endpoint = _host(text)
    except ValueError as error:
        raise InputError(str(error), usage=True) from error
    port = None if endpoint.port == NO_PORT else endpoint.port
    answers.host, answers.tls = endpoint.host, given["tls"] or "starttls"
    answers.port = port or DEFAULT_PORTS[answers.tls]
    answers.why = "as you said" if given["tls"] else "not tried: TLS is demanded, never hoped for"
    if given["tls"] or given["no_look"]:
        return
    _look_at(ask, answers, port)


def _found_in_dns(domain: str, given: dict[str, Any]) -> str:
    """The host that takes submissions of a domain, as its SRV records say (RFC 6186), as an answer to be proposed."""
    from copper_kite.net import Lookups, SubmissionService, submission_services

    async def find() -> list[SubmissionService]:
        return await submission_services(domain, Lookups(given["dns"], LOOKUP_SECONDS))

    if given["host"] or given["no_look"]:
        return ""
    services = asyncio.run(find())
    if not services:
        return ""
    first = services[0]
    echo(f"{domain} takes submissions at {first.host}, port {first.port}, TLS {first.tls} (SRV records)")
    if first.host != domain and not first.host.endswith(f".{domain}"):
        say((f"{first.host} is not of {domain}: make sure that it is your provider's", "yellow"))
    given["tls"] = given["tls"] or ("implicit" if first.tls == "implicit" else None)
    return f"{first.host}:{first.port}"


def _look_at(ask: Asker, answers: Answers, port: int | None) -> None:
    from copper_kite.session import look_at_host, safest

    echo(f"looking at {answers.host} …")
    seen = asyncio.run(look_at_host(answers.host, port, answers.name, answers.trust))
    print_table(("port", "TLS", "what is there"), [(str(item.port), item.tls, str(item)) for item in seen], wraps=True)
    result = safest(seen)
    if result is None:
        _nothing_works(seen)
        return
    answers.port, answers.tls = result.port, result.tls
    answers.why = "the safest that was seen to work"
    say("proposed: ", (f"port {result.port} with TLS {result.tls}", "bold"))
    if result.distrusted:
        answers.why = "its certificate was not trusted when this was written"
        say((f"its certificate is not trusted yet ({result})", "yellow"))
        if not ask.unattended:
            _choose_trust(ask, answers)


def _choose_trust(ask: Asker, answers: Answers) -> None:
    """Show the certificate, and have an authority named, or the certificate itself pinned."""
    from copper_kite.cli.output.probe_output import certificate_words
    from copper_kite.net import Plan, shown_chain

    plan = Plan(host=answers.host, port=answers.port, name=answers.name, tls=answers.tls)
    chain = asyncio.run(shown_chain(plan))
    if not chain:
        return
    say(certificate_words(chain[0], time.time()), indent=2)
    pin = f"{PIN}{chain[0].fingerprint}"

    def check(answer: str) -> None:
        if answer not in ("pin", pin) and not Path(answer).is_file():
            raise ValueError(f"no file {answer!r}")

    question = "Whom to trust: the PEM file of its authority, or pin, for this certificate alone (empty: later)"
    answer = ask.text("--trust", question, "", check, needed=False)
    if answer == "pin" and not ask.confirm(f"Has whoever runs {answers.host} confirmed {pin}?", default=False):
        answer = ""
    if answer:
        answers.trust = pin if answer in ("pin", pin) else _trust(answer)
        answers.why = "its certificate is pinned" if answers.trust == pin else "by the authority that was named"


def _nothing_works(seen: list[Seen]) -> None:
    if all(item.silent for item in seen):
        say(("nobody answers from here; port 587 with STARTTLS is what most smart hosts take", "yellow"))
    else:
        say(("none of these works under verified TLS; port 587 with STARTTLS is what most smart hosts take", "yellow"))


def _write(ask: Asker, path: Path, answers: Answers, password: str | None, *, overwrite: bool) -> None:
    """Show what will be written, ask, and write both files."""
    from copper_kite.settings import ALARMS, Document, credential_name, first_text, load_source, write_file

    text = first_text(answers)
    echo()
    say((f"{path}", "bold"))
    echo("".join(f"  {line}\n" for line in first_text(answers, alarms=False).splitlines()))
    if answers.root:
        names = ", ".join(name for name, _, _ in ALARMS)
        echo(f"  and alarms that write to {answers.root}: {names}; `kite alarm list` shows them\n")
    there = path.exists() and not overwrite
    over = f"Write over {path}? All that it says now is replaced; the version before is kept"
    if not ask.confirm(over if there else "Write it?", default=not there):
        raise click.Abort
    path.parent.mkdir(parents=True, exist_ok=True)
    if answers.login and password is not None:
        secrets = path.parent / "credentials.toml"
        document = Document(secrets.read_text("utf-8") if secrets.exists() else "")
        name = credential_name(answers.host)
        if not document.blocks(name):
            document.add(name, {}, array=False)
        for key, value in (("login", answers.login), ("password", password)):
            document.set(name, None, key, value)
        write_file(secrets, document.text, mode=0o600, keep_last=False)
        echo(f"{secrets} written, for its owner alone")
    load_source(path, text)
    write_file(path, text)
    echo(f"{path} written")


def _check(path: Path, *, live: bool) -> int:
    """The check that follows, `live` by the smart host, too; and what to type next."""
    from copper_kite.cli.commands.check import show_findings, show_walk, summary, walk
    from copper_kite.posture import check_file
    from copper_kite.settings import find_config

    loaded, findings = check_file(path, time.time())
    echo()
    show_findings(findings)
    walked = asyncio.run(walk(loaded)) if live and loaded is not None else []
    show_walk(walked)
    summary(findings, walked)
    try:
        option = "" if find_config(None) == path else f"--config {path} "
    except SettingsError:
        option = f"--config {path} "
    echo()
    say(("Next", "bold"))
    echo(f"  kite {option}check --live\n  kite {option}serve")
    echo(f'  echo "A first message" | kite {option}pipe root')
    if any(finding.level == "error" for finding in findings):
        return 1
    return 0 if all(result.passed for _, result in walked) else 4
