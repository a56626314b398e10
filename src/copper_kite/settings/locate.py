"""On which line of a TOML text a key stands: the parser does not tell, and an error without a place is half one."""

from __future__ import annotations

import re
from functools import lru_cache

__all__ = ["locate_key"]

_TABLE = re.compile(r"\s*(\[\[?)\s*([^\]]+?)\s*\]\]?\s*(?:#.*)?$")
_KEY = re.compile(r"""\s*((?:[A-Za-z0-9_-]+|"[^"]*"|'[^']*')(?:\s*\.\s*(?:[A-Za-z0-9_-]+|"[^"]*"|'[^']*'))*)\s*=""")
_PART = re.compile(r"""[A-Za-z0-9_-]+|"[^"]*"|'[^']*'""")

DEEPEST = 16  # parts of a key that are told apart; no key of ours has so many

Path = tuple[str | int, ...]


@lru_cache(maxsize=4)
def _index(source: str) -> dict[Path, int]:
    """Every table and key of `source` with its line, counted from 1."""
    places: dict[Path, int] = {}
    counts: dict[Path, int] = {}
    table: Path = ()
    for number, line in enumerate(source.splitlines(), 1):
        if match := _TABLE.match(line):
            table = tuple(part.strip("\"'") for part in _PART.findall(match.group(2)))
            if match.group(1) == "[[":
                count = counts.get(table, 0)
                counts[table] = count + 1
                table = (*table, count)
            places.setdefault(table, number)
        elif match := _KEY.match(line):
            key = tuple(part.strip("\"'") for part in _PART.findall(match.group(1)))
            for length in range(1, min(len(key), DEEPEST) + 1):
                places.setdefault((*table, *key[:length]), number)
    return places


def locate_key(source: str, path: Path) -> int | None:
    """The line of `path`, or of the nearest thing around it that has one; None when nothing has."""
    places = _index(source)
    while path and path not in places:
        if (*path, 0) in places:  # tables of this name: the first of them
            return places[*path, 0]
        path = path[:-1]
    return places.get(path)
