"""Commands that are shown to be typed: for the same configuration, and none that was typed just now."""

from __future__ import annotations

import itertools
import shlex
import sys
from collections.abc import Sequence

import click

__all__ = ["asked_again", "typed"]


def typed(command: str) -> str:
    """A command as it is to be typed: with `--config` where this one had it; empty for one that says what was typed."""
    asked, config = _without_config(sys.argv[1:])
    if command == shlex.join(["kite", *asked]):
        return ""
    if not config or not command.startswith("kite "):
        return command
    return f"kite --config {shlex.quote(config)} {command.removeprefix('kite ')}"


def asked_again(option: str) -> str:
    """The present command with one option more; empty where it already has that."""
    asked, _ = _without_config(sys.argv[1:])
    return "" if option in asked else shlex.join(["kite", *asked, option])


def _without_config(words: Sequence[str]) -> tuple[list[str], str]:
    """The words of this command line but for the configuration, and that."""
    context = click.get_current_context(silent=True)
    config = context.find_root().params.get("config") if context is not None else None
    if not config:
        return list(words), ""
    left = [word for word in words if word != f"--config={config}"]
    pairs = itertools.pairwise(left)
    place = next((at for at, pair in enumerate(pairs) if pair == ("--config", config)), None)
    return (left if place is None else left[:place] + left[place + 2 :]), config
