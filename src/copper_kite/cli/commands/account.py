"""`kite account`."""

from __future__ import annotations

import os
from typing import TYPE_CHECKING

import click

from copper_kite.cli.output.show import echo, print_json, print_table
from copper_kite.cli.shared.completion import complete_names
from copper_kite.cli.shared.editing import make_family, near, take_up_secrets
from copper_kite.cli.shared.options import json_option, load_settings
from copper_kite.cli.shared.passwords import password_options, read_password

if TYPE_CHECKING:
    from copper_kite.settings import Loaded

__all__ = ["account"]


def _breaks(loaded: Loaded, name: str) -> list[str]:
    names = [entry.name for entry in loaded.settings.account]
    if name not in names:
        raise near(name, names, "account")
    return [f"programs that log in as {name} would get 535"]


account = make_family("account", "Manage the logins of programs that submit mail.", _breaks)


@account.command("list")
@json_option
@click.pass_obj
def list_accounts(config: str | None, as_json: bool) -> None:
    """List all accounts, and whether each can log in."""
    loaded = load_settings(config, secrets=True)
    rows = [(entry.name, entry.enabled, entry.name in loaded.accounts) for entry in loaded.settings.account]
    if as_json:
        print_json([{"name": name, "enabled": on, "can_log_in": able} for name, on, able in rows])
        return
    print_table(
        ("name", "on", "can log in"),
        [(name, "yes" if on else "no", "yes" if able else f"no: {_why(name, on)}") for name, on, able in rows],
    )


def _why(name: str, on: bool) -> str:
    return f"it has no password, `kite account password {name}`" if on else "it is disabled"


@account.command("password")
@click.argument("name", shell_complete=complete_names("account"))
@click.pass_obj
def set_password(
    config: str | None, name: str, password_stdin: bool, password_env: str | None, password_command: str | None
) -> None:
    """Set the password of an account; only a SCRAM-SHA-256 key of it is stored.

    It is asked for, twice, and does not show, unless an option says where it comes from.
    """
    from copper_kite.settings import ACCOUNTS, Document, write_file
    from copper_kite.smtp import ScramKey, Secret

    loaded = load_settings(config)
    names = [entry.name for entry in loaded.settings.account]
    if name not in names:
        raise near(name, names, "account")
    password = read_password(password_stdin, password_env, password_command) or click.prompt(
        f"password of {name}", hide_input=True, confirmation_prompt=True, err=True
    )
    path = loaded.path.parent / ACCOUNTS
    document = Document(path.read_text("utf-8") if path.exists() else "")
    if not document.blocks(name):
        document.add(name, {}, array=False)
    document.set(name, None, "key", str(ScramKey.make(Secret(password), os.urandom(16))))
    write_file(path, document.text, mode=0o600, keep_last=False)
    echo(f"account {name} has its password; its key is in {path}")
    take_up_secrets(load_settings(config, secrets=True))


password_options(set_password)
