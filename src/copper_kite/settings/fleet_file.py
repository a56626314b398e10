"""`fleet.toml`: the other servers, and how they are reached."""

from __future__ import annotations

import os
from pathlib import Path

from pydantic import Field, ValidationError

from copper_kite.errors import SettingsError
from copper_kite.settings.explain import explain, parse_toml, read_source
from copper_kite.settings.find import find_config
from copper_kite.settings.table import Table
from copper_kite.settings.value_types import Duration, Name

__all__ = ["Fleet", "FleetServer", "read_fleet"]

FILE = "fleet.toml"


class FleetServer(Table):
    """`[[server]]`: one of our servers."""

    name: Name = Field(description="Its name in tables.")
    address: str = Field(
        min_length=1,
        pattern=r"^[^-\s]\S*$",
        description="Where it is, as ssh takes it.",
    )
    config: str = Field(default="", description="Its configuration, where that is not in the usual place.")
    command: str = Field(default="kite", min_length=1, description="The command there, perhaps with `sudo -n`.")
    enabled: bool = Field(default=True, description="Whether it is asked at all.")


class Fleet(Table):
    """The whole file."""

    server: list[FleetServer] = Field(default=[], min_length=1)
    ssh: list[str] = Field(default=[], description="Options for ssh; host keys are always verified.")
    at_once: int = Field(default=8, ge=1, le=100, description="How many are asked at a time.")
    seconds: Duration = Field(default=30.0, ge=1, description="How long one may take to answer.")


def read_fleet(named: str | None) -> Fleet:
    """The file that is named, else the one of `$KITE_FLEET`, else the one beside the configuration.

    Raises SettingsError with every finding.
    """
    path = Path(named or os.environ.get("KITE_FLEET") or find_config(None).with_name(FILE))
    source = read_source(path)
    try:
        fleet = Fleet.model_validate(parse_toml(path, source))
    except ValidationError as error:
        raise SettingsError(explain(error, Fleet, path, source)) from error
    return fleet
