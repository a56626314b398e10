"""Compare the exported configurations of several servers by their meaning."""

from __future__ import annotations

from pathlib import Path

from copper_kite.settings import Difference, compare_settings, examine_configuration

__all__ = ["compare_exports"]

_OWN = '[server]\nname = "one.invalid"\n'  # stands for what each server has for itself and does not export


def compare_exports(left: str, right: str) -> list[Difference]:
    """The differences between two exported configurations. Raises SettingsError for an invalid one."""
    sides = [examine_configuration(Path("export.toml"), _OWN + text, secrets=False)[0] for text in (left, right)]
    return compare_settings(sides[0], sides[1])
