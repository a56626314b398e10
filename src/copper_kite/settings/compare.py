"""Two configurations side by side, by what they mean and not by how they are written."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from pydantic import BaseModel

from copper_kite.settings.load import Loaded
from copper_kite.settings.model import Settings
from copper_kite.settings.values import shown_value

__all__ = ["Difference", "compare_settings", "flatten"]

Key = tuple[str, str, str]  # table, name of the entry (or empty), key

# Keys in which two servers differ even if they are set up alike.
OWN = {("server", "name"), ("server", "data"), ("server", "credentials"), ("listener", "bind")}


class Difference(NamedTuple):
    """One key that differs; None stands for an entry that is only on the other side."""

    place: str
    left: str | None
    right: str | None


def flatten(settings: Settings) -> dict[Key, str]:
    """Every key with its value as one would type it, defaults included."""
    results: dict[Key, str] = {}
    for table in type(settings).model_fields:
        value = getattr(settings, table)
        for number, entry in enumerate(value if isinstance(value, list) else [value], 1):
            name = _name_of(entry, number) if isinstance(value, list) else ""
            for key in type(entry).model_fields:
                results[table, name, key] = shown_value(getattr(entry, key))
    return results


def compare_settings(left: Loaded, right: Loaded, *, everything: bool = False) -> list[Difference]:
    """The differences in the order of the left file; without `everything`, only those that servers should share."""
    ours, theirs = flatten(left.settings), flatten(right.settings)
    return list(_differences(ours, theirs, everything))


def _name_of(entry: BaseModel, number: int) -> str:
    """The key that identifies an entry of a list; rules are identified by position."""
    keys = [str(getattr(entry, key)) for key in ("name", "domain", "selector", "risk", "of") if hasattr(entry, key)]
    return " ".join(filter(None, keys)) or str(number)


def _differences(ours: dict[Key, str], theirs: dict[Key, str], everything: bool) -> Iterator[Difference]:
    entries = [{(table, name) for table, name, _ in side} for side in (ours, theirs)]
    told: set[tuple[str, str]] = set()
    for table, name, key in dict.fromkeys((*ours, *theirs)):
        entry = (table, name)
        if not everything and (table, key) in OWN:
            continue
        if entry in entries[0] ^ entries[1]:  # only one side has it: one line says so
            if entry not in told:
                told.add(entry)
                sides = ("there", None) if entry in entries[0] else (None, "there")
                yield Difference(f"{table} {name}".strip(), *sides)
            continue
        values = ours[table, name, key], theirs[table, name, key]
        if values[0] != values[1]:
            yield Difference(f"{table} {name} {key}".replace("  ", " "), *values)
