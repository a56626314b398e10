"""Passwords that options give: from standard input, the environment, or another program."""

from __future__ import annotations

import os
import sys

import click

from copper_kite.errors import InputError

__all__ = ["password_options", "read_password"]


def password_options(command: click.Command) -> click.Command:
    """The sources of a password that is not asked for: never the command line, which others can see."""
    command.params += [
        click.Option(["--password-stdin"], is_flag=True, help="Read the password from standard input."),
        click.Option(["--password-env"], metavar="NAME", help="Take the password from this environment variable."),
        click.Option(["--password-command"], metavar="COMMAND", help="Take the password from this command's output."),
    ]
    return command


def read_password(password_stdin: bool, password_env: str | None, password_command: str | None) -> str | None:
    """The password as the options give it; None when none is given. Raises InputError."""
    import subprocess

    if sum(map(bool, (password_stdin, password_env, password_command))) > 1:
        raise InputError("the password comes from one place", usage=True)
    result: str | None = None
    if password_stdin:
        result = sys.stdin.readline().rstrip("\r\n")
    elif password_env:
        result = os.environ.get(password_env, "")
    elif password_command:
        done = subprocess.run(password_command, shell=True, stdout=subprocess.PIPE, check=False)
        result = done.stdout.decode().rstrip("\r\n") if done.returncode == 0 else ""
    if result == "":
        raise InputError("there is no password where it should come from", usage=True)
    return result
