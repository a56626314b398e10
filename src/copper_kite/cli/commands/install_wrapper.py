"""`kite service --path`: install the command that programs call to submit mail, and keep the one it replaces."""

from __future__ import annotations

import shlex
from collections.abc import Sequence
from pathlib import Path

import click

from copper_kite.cli.output.show import echo
from copper_kite.errors import InputError

__all__ = ["set_up_path"]

MARK = "# hands mail to Copper Kite"


def set_up_path(path: Path, config: Path, command: Sequence[str], *, yes: bool) -> None:
    """Put a command at `path` that submits what it reads. Asks first, unless `yes`. Raises InputError."""
    if not path.parent.is_dir() or path.is_dir():
        raise InputError(f"{path} is no place for a command", usage=True)
    there = _what_stands_there(path)
    echo(f"{path}: {there}")
    words = " ".join(map(shlex.quote, [*command, "--config", str(config), "pipe", "--as-standard"]))
    text = f'#!/bin/sh\n{MARK}\nexec {words} "$@"\n'
    if _reads(path) == text:
        echo("nothing to do")
        return
    if not yes and not click.confirm(
        "Put kite there, and keep what stands there beside it?" if path.exists() else "Put kite there?"
    ):
        return
    kept = path.with_name(f"{path.name}.before-kite")
    try:
        if (path.exists() or path.is_symlink()) and MARK not in _reads(path):
            if kept.exists() or kept.is_symlink():
                raise InputError(f"{kept} is there already; look at both, and remove one")
            path.rename(kept)
            echo(f"kept as {kept}; to go back: mv {shlex.quote(str(kept))} {shlex.quote(str(path))}")
        temporary = path.with_name(f".{path.name}.new")
        temporary.write_text(text)
        temporary.chmod(0o755)
        temporary.replace(path)
    except OSError as error:
        raise InputError(f"{path} cannot be written ({error.strerror}); run it as root") from error
    echo(f"{path} hands mail to the server of {config}")


def _reads(path: Path) -> str:
    try:
        return path.read_text("utf-8", "replace") if path.is_file() else ""
    except OSError:
        return ""


def _what_stands_there(path: Path) -> str:
    if path.is_symlink():
        return f"a link to {path.readlink()}, which is {'there' if path.exists() else 'gone'}"
    if not path.exists():
        return "nothing stands there"
    if MARK in _reads(path):
        return "kite is there already"
    facts = path.stat()
    return f"a file of {facts.st_size} octets, mode {facts.st_mode & 0o7777:04o}, of user {facts.st_uid}"
