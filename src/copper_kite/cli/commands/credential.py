"""`kite credential`."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from copper_kite.cli.commands.credential_login import get_tokens, login_options
from copper_kite.cli.output.show import echo, print_json, print_table
from copper_kite.cli.shared.completion import complete_names
from copper_kite.cli.shared.editing import near, take_up_secrets
from copper_kite.cli.shared.options import json_option, load_settings
from copper_kite.cli.shared.passwords import password_options, read_password
from copper_kite.errors import InputError
from copper_kite.settings import shown_value

if TYPE_CHECKING:
    from copper_kite.settings import Block, Document

__all__ = ["credential"]


@click.group()
def credential() -> None:
    """Manage the secrets that connectors log in with, kept in a file that only its owner can read."""


@credential.command("list")
@json_option
@click.pass_obj
def list_credentials(config: str | None, as_json: bool) -> None:
    """List all credentials with their logins and the connectors that use them; no password is shown."""
    connectors = load_settings(config).settings.connector
    _, document = _file(config)
    rows = []
    for name in document.tables:  # those that no connector uses yet, and those that are off, too
        values = document.values(document.blocks(name)[0])
        users = [entry.name for entry in connectors if entry.credential == name]
        results = {"name": name, "login": values.get("login"), "enabled": values.get("enabled", True)}
        rows.append({**results, "connectors": users})
    if as_json:
        print_json(rows)
        return
    print_table(
        ("name", "login", "on", "used by connectors"), [[shown_value(value) for value in row.values()] for row in rows]
    )


@credential.command("show")
@click.argument("name", shell_complete=complete_names("credential"))
@json_option
@click.pass_obj
def show_credential(config: str | None, name: str, as_json: bool) -> None:
    """Show one credential: its login and the connectors that use it; the password is not shown."""
    loaded = load_settings(config)
    path, document = _file(config)
    block = _demand(document, name)
    values = document.values(block)
    users = [entry.name for entry in loaded.settings.connector if entry.credential == name]
    results = {"name": name, "login": values.get("login"), "enabled": values.get("enabled", True), "connectors": users}
    if as_json:
        print_json({**results, "file": str(path)})
        return
    print_table(("key", "value"), [(key, shown_value(value)) for key, value in {**results, "file": str(path)}.items()])


@credential.command("add")
@click.argument("name")
@click.option("--login", metavar="LOGIN", help="Login; prompts for it if not given.")
@click.pass_obj
def add_credential(config: str | None, /, name: str, login: str | None, **source: Any) -> None:
    """Add a credential.

    The password is asked for, and does not show, unless an option says where it comes from.
    """
    _, document = _file(config)
    if document.blocks(name):
        raise InputError(f"there is a credential {name!r} already; change it with `kite credential set`", usage=True)
    _put(config, name, login, source)


@credential.command("set")
@click.argument("name", shell_complete=complete_names("credential"))
@click.option("--login", metavar="LOGIN", help="New login; by default unchanged.")
@click.pass_obj
def set_credential(config: str | None, /, name: str, login: str | None, **source: Any) -> None:
    """Change the login or password of a credential; add it if it does not exist.

    The password is asked for, and does not show, unless an option says where it comes from.
    """
    _put(config, name, login, source)


@credential.command("login")
@click.argument("name")
@click.pass_obj
def log_in(config: str | None, /, name: str, **given: Any) -> None:
    """Add a credential that logs in with access tokens (OAuth 2), which the server renews by itself.

    A code is shown for somebody to enter in a browser elsewhere; with --own-secret, nobody has to.
    """
    from copper_kite.settings import check_credential

    path, document = _file(config)
    known = document.values(document.blocks(name)[0]) if document.blocks(name) else {}
    login = given.pop("login") or known.get("login") or click.prompt("login", err=True)
    check_credential(name, str(login), "unused")
    source = {key: given.pop(key) for key in list(given) if key.startswith("password_")}
    values = {"login": str(login), **get_tokens(name, given, source, path.parent.absolute())}
    for block in document.blocks(name):
        document.remove_block(block)
    document.add(name, values, array=False)
    _write(
        config, path, document, name, f"credential {name} with login {login} is in {path}; its tokens renew themselves"
    )


login_options(log_in)
for _command in (add_credential, set_credential, log_in):
    password_options(_command)


def _put(config: str | None, name: str, login: str | None, source: dict[str, Any]) -> None:
    from copper_kite.settings import check_credential

    path, document = _file(config)
    known = document.values(document.blocks(name)[0]) if document.blocks(name) else {}
    login = login or known.get("login") or click.prompt("login", err=True)
    password = read_password(**source) or click.prompt(f"password of {login}", hide_input=True, err=True)
    check_credential(name, str(login), str(password))
    if not known:
        document.add(name, {}, array=False)
    for key, value in (("login", login), ("password", password)):
        document.set(name, None, key, value)
    _write(config, path, document, name, f"credential {name} with login {login} is in {path}")


@credential.command("copy")
@click.argument("name", shell_complete=complete_names("credential"))
@click.argument("new")
@click.pass_obj
def copy_credential(config: str | None, name: str, new: str) -> None:
    """Copy a credential under a NEW name."""
    path, document = _file(config)
    values = document.values(_demand(document, name))
    if document.blocks(new):
        raise InputError(f"there is a credential {new!r} already", usage=True)
    document.add(new, values, array=False)
    _write(config, path, document, new, f"credential {name} copied to {new}")


def _switch(enabled: bool) -> None:
    word = "enable" if enabled else "disable"

    @credential.command(word, help=f"{word.capitalize()} a credential that no connector uses while it is off.")
    @click.argument("name", shell_complete=complete_names("credential"))
    @click.pass_obj
    def switch(config: str | None, name: str) -> None:
        path, document = _file(config)
        _demand(document, name)
        if not enabled:
            _demand_unused(config, name)
        document.set(name, None, "enabled", None if enabled else False)
        _write(config, path, document, name, f"credential {name} {word}d")


_switch(enabled=True)
_switch(enabled=False)


@credential.command("remove")
@click.argument("name", shell_complete=complete_names("credential"))
@click.option("--yes", is_flag=True, help="Do not ask.")
@click.pass_obj
def remove_credential(config: str | None, name: str, yes: bool) -> None:
    """Remove a credential that no connector uses."""
    _demand_unused(config, name)
    path, document = _file(config)
    block = _demand(document, name)
    if not yes:
        click.confirm(f"Remove credential {name}?", abort=True)
    document.remove_block(block)
    _write(config, path, document, name, f"credential {name} removed from {path}")


def _demand_unused(config: str | None, name: str) -> None:
    users = [entry.name for entry in load_settings(config).settings.connector if entry.credential == name]
    if users:
        raise InputError(f"connector {', '.join(users)} logs in with it; give it another one first", usage=True)


def _demand(document: Document, name: str) -> Block:
    if not document.blocks(name):
        raise near(name, document.tables, "credential")
    return document.blocks(name)[0]


def _file(config: str | None) -> tuple[Path, Document]:
    """The path of the credentials file, and its content."""
    from copper_kite.settings import Document

    path = _path(config)
    return path, Document(path.read_bytes().decode("utf-8") if path.exists() else "")


def _write(config: str | None, path: Path, document: Document, name: str, done: str) -> None:
    """Write the file, for its owner alone; a running server that uses the credential takes it up."""
    from copper_kite.settings import write_file

    write_file(path, document.text, mode=0o600, keep_last=False)
    echo(done)
    loaded = load_settings(config, secrets=True)
    if any(entry.credential == name for entry in loaded.settings.connector):
        take_up_secrets(loaded)


def _path(config: str | None) -> Path:
    """The path of the credentials file; the configuration need not name it yet."""
    loaded = load_settings(config)
    return loaded.path.parent / loaded.settings.server.credentials
