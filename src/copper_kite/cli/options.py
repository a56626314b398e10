"""What several commands share: the configuration, and the options that mean the same everywhere."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any

import click

if TYPE_CHECKING:
    from copper_kite.settings.load import Loaded

__all__ = ["json_option", "load_settings"]


def json_option(function: Callable[..., Any]) -> Callable[..., Any]:
    """`--json`, for programs."""
    return click.option("--json", "as_json", is_flag=True, help="One JSON document for programs.")(function)


def load_settings(config: str | None, *, secrets: bool = False) -> Loaded:
    """The configuration that the command was given. Raises SettingsError."""
    from copper_kite.settings.load import find_config, load

    return load(find_config(config), secrets=secrets)
