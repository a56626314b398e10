"""The options that several commands share, and the configuration that they load."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, Any

import click

if TYPE_CHECKING:
    from pathlib import Path

    from copper_kite.net import Lookups
    from copper_kite.settings import Loaded
    from copper_kite.store import StorePlace

__all__ = [
    "DURATION",
    "INSTANT",
    "PACE",
    "SIZE",
    "Endpoints",
    "checked_domain",
    "drop_folder",
    "json_option",
    "load_settings",
    "lookups_of",
    "options_of",
    "queue_place",
    "settings_or_none",
]


class _Unit(click.ParamType):  # type: ignore[type-arg]  # generic only in the newest click
    """A value as people write it: what `settings.units` refuses is wrong usage of the option."""

    def __init__(self, name: str) -> None:
        self.name = name

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        """The value itself."""
        if not isinstance(value, str):
            return value
        try:
            return self.parse(value)
        except ValueError as error:
            self.fail(str(error), param, ctx)

    def parse(self, value: str) -> Any:
        """Raises ValueError."""
        from copper_kite import settings

        return getattr(settings, f"parse_{self.name}")(value)


class Endpoints(_Unit):
    """`HOST[:PORT]` or `unix:/PATH`, with the port that is meant when none is given."""

    def __init__(self, default_port: int) -> None:
        super().__init__("endpoint")
        self._default_port = default_port

    def parse(self, value: str) -> Any:
        """Raises ValueError."""
        from copper_kite.settings import parse_endpoint

        return parse_endpoint(value, default_port=self._default_port)


class _Instant(_Unit):
    """A point in time, as people write it."""

    def __init__(self) -> None:
        super().__init__("time")

    def parse(self, value: str) -> Any:
        """Raises ValueError."""
        import time

        from copper_kite.settings import parse_instant

        return parse_instant(value, time.time())


INSTANT = _Instant()
DURATION, SIZE, PACE = _Unit("duration"), _Unit("size"), _Unit("pace")


def options_of(options: Sequence[Callable[..., Any]]) -> Callable[[Callable[..., Any]], Callable[..., Any]]:
    """Combine several options into one decorator, in their order."""

    def decorate(function: Callable[..., Any]) -> Callable[..., Any]:
        for option in reversed(options):
            function = option(function)
        return function

    return decorate


def json_option(function: Callable[..., Any]) -> Callable[..., Any]:
    """`--json`, for programs."""
    return click.option("--json", "as_json", is_flag=True, help="Print JSON.")(function)


def queue_place(config: str | None) -> StorePlace:
    """Where the queue is. For one in the data folder, without a look at the rest of the configuration: that takes
    longer than the command.

    Raises SettingsError for a file that cannot be read.
    """
    from pathlib import Path

    from copper_kite.settings import find_file, sketch
    from copper_kite.store import StorePlace

    result = sketch(find_file(config))
    return load_settings(config).store if result.store else StorePlace(Path(result.data))


def drop_folder(config: str | None) -> Path:
    """Where the drop folder is; as `queue_place`."""
    from pathlib import Path

    from copper_kite.settings import find_file, sketch

    return Path(sketch(find_file(config)).drop)


def load_settings(config: str | None, *, secrets: bool = False) -> Loaded:
    """The configuration that the command was given. Raises SettingsError."""
    from copper_kite.settings import find_config, load_configuration

    return load_configuration(find_config(config), secrets=secrets)


def settings_or_none(config: str | None) -> Loaded | None:
    """The configuration, which the command can do without unless one is named. Raises SettingsError."""
    from copper_kite.errors import SettingsError

    try:
        return load_settings(config)
    except SettingsError:
        if config is not None:
            raise
        return None


def lookups_of(loaded: Loaded | None, seconds: float) -> Lookups:
    """Lookups by the resolver of the configuration, or by the system's. Only within a running loop."""
    from copper_kite.net import SYSTEM, Lookups
    from copper_kite.routing import dns_of

    return Lookups(SYSTEM if loaded is None else dns_of(loaded), seconds)


def checked_domain(name: str) -> str:
    """The domain that the command was given, in lower case. Raises InputError."""
    from copper_kite.errors import InputError
    from copper_kite.settings import check_domain

    try:
        return check_domain(name.rstrip("."))
    except ValueError as error:
        raise InputError(str(error), usage=True) from error
