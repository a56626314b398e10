"""`kite credential`."""

from __future__ import annotations

import os
import sys
from pathlib import Path

import click

from copper_kite.cli.editing import complete_names, near, take_up
from copper_kite.cli.options import json_option, load_settings
from copper_kite.cli.show import print_json, print_table
from copper_kite.errors import InputError

__all__ = ["credential", "password_options", "read_password"]


@click.group()
def credential() -> None:
    """The secrets that connectors log in with, in a file for its owner alone."""


def password_options(command: click.Command) -> click.Command:
    """Where a password comes from, when it is not asked for: never from the command line, which others can see."""
    command.params += [
        click.Option(["--password-stdin"], is_flag=True, help="Read the password from standard input."),
        click.Option(["--password-env"], metavar="NAME", help="Take the password from this environment variable."),
        click.Option(["--password-command"], metavar="COMMAND", help="Take the password from what it prints."),
    ]
    return command


def read_password(password_stdin: bool, password_env: str | None, password_command: str | None) -> str | None:
    """The password as the options give it; None when none is given. Raises InputError."""
    import subprocess

    if sum(map(bool, (password_stdin, password_env, password_command))) > 1:
        raise InputError("the password comes from one place", usage=True)
    found: str | None = None
    if password_stdin:
        found = sys.stdin.readline().rstrip("\r\n")
    elif password_env:
        found = os.environ.get(password_env, "")
    elif password_command:
        done = subprocess.run(password_command, shell=True, stdout=subprocess.PIPE, check=False)
        found = done.stdout.decode().rstrip("\r\n") if done.returncode == 0 else ""
    if found == "":
        raise InputError("there is no password where it should come from", usage=True)
    return found


@credential.command("list")
@json_option
@click.pass_obj
def list_credentials(config: str | None, as_json: bool) -> None:
    """All credentials with their logins and the connectors that use them; no password shows."""
    loaded = load_settings(config, secrets=True)
    users = {
        name: [entry.name for entry in loaded.settings.connector if entry.credential == name]
        for name in loaded.credentials
    }
    if as_json:
        print_json(
            [
                {"name": name, "login": found.login, "connectors": users[name]}
                for name, found in loaded.credentials.items()
            ]
        )
        return
    print_table(
        ("name", "login", "used by connectors"),
        [(name, found.login, ", ".join(users[name]) or "none") for name, found in loaded.credentials.items()],
    )


@credential.command("set")
@click.argument("name", shell_complete=complete_names("credential"))
@click.option("--login", metavar="LOGIN", help="The login; asked for when it is not given and not known.")
@click.pass_obj
def set_credential(
    config: str | None,
    name: str,
    login: str | None,
    password_stdin: bool,
    password_env: str | None,
    password_command: str | None,
) -> None:
    """Add a credential, or give one another login or password.

    The password is asked for, and does not show, unless an option says where it comes from.
    """
    from copper_kite.settings.edit import Document, write_file
    from copper_kite.settings.secrets import check_credential

    path = _path(config)
    document = Document(path.read_text("utf-8") if path.exists() else "")
    known = document.values(document.blocks(name)[0]) if document.blocks(name) else {}
    login = login or known.get("login") or click.prompt("login", err=True)
    password = read_password(password_stdin, password_env, password_command) or click.prompt(
        f"password of {login}", hide_input=True, err=True
    )
    check_credential(name, login, password)
    if not known:
        document.add(name, {}, array=False)
    for key, value in (("login", login), ("password", password)):
        document.set(name, None, key, value)
    write_file(path, document.text, mode=0o600, keep_last=False)
    click.echo(f"credential {name} with login {login} is in {path}")
    loaded = load_settings(config, secrets=True)
    if any(entry.credential == name for entry in loaded.settings.connector):
        take_up(loaded)


password_options(set_credential)


@credential.command("remove")
@click.argument("name", shell_complete=complete_names("credential"))
@click.option("--yes", is_flag=True, help="Do not ask.")
@click.pass_obj
def remove_credential(config: str | None, name: str, yes: bool) -> None:
    """Remove a credential that no connector uses."""
    from copper_kite.settings.edit import Document, write_file

    loaded = load_settings(config)
    users = [entry.name for entry in loaded.settings.connector if entry.credential == name]
    if users:
        raise InputError(f"connector {', '.join(users)} logs in with it; give it another one first", usage=True)
    path = _path(config)
    document = Document(path.read_text("utf-8") if path.exists() else "")
    if not document.blocks(name):
        raise near(name, document.tables, "credential")
    if not yes:
        click.confirm(f"Remove credential {name}?", abort=True)
    document.remove_block(document.blocks(name)[0])
    write_file(path, document.text, mode=0o600, keep_last=False)
    click.echo(f"credential {name} removed from {path}")


def _path(config: str | None) -> Path:
    """Where the credentials are, or are to be; the configuration need not name them yet."""
    loaded = load_settings(config)
    return loaded.path.parent / loaded.settings.server.credentials
