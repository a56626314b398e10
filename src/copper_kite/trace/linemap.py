"""Line maps give the lines of a log a meaning: named patterns for their parts, written by those who know the log.

A map is a TOML file (docs/line-maps.md). Those for our own logs come with the product.
"""

from __future__ import annotations

import re
import tomllib
from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import lru_cache
from importlib import resources
from pathlib import Path
from typing import Any

from copper_kite.clock import has_date
from copper_kite.errors import Finding, SettingsError
from copper_kite.settings import parse_toml
from copper_kite.trace.patterns import may_take_for_ever
from copper_kite.trace.syslog import Line, parse_time
from copper_kite.words import OUTCOMES

__all__ = ["FIELDS", "Entry", "LineMap", "load_map", "shipped_map", "shipped_maps"]

FIELDS = ("time", "id", "next_id", "message_id", "sender", "recipient", "host", "code", "text", "outcome")
LOGGED = (*OUTCOMES, "other")
_REPLY = re.compile(r"\b([2-5]\d\d(?:[ -][245]\.\d{1,3}\.\d{1,3})?)(?=[ -]|$)")


@dataclass(frozen=True, slots=True)
class Entry:
    """The facts in one line. `source` names the log; `raw` is the line itself; `outcome` may be empty."""

    at: float | None
    source: str
    raw: str
    host: str = ""
    id: str = ""
    next_id: str = ""
    message_id: str = ""
    sender: str = ""
    recipient: str = ""
    code: str = ""
    text: str = ""
    outcome: str = ""


@dataclass(frozen=True, slots=True)
class LineMap:
    """The map of one log's lines. `patterns` have one group each and are looked for in the line's words; `names` are
    those of pairs, tried first; `outcomes` are tried in order."""

    name: str
    program: str = ""
    time_form: str = ""
    names: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    patterns: Mapping[str, re.Pattern[str]] = field(default_factory=dict)
    outcomes: tuple[tuple[str, re.Pattern[str]], ...] = ()

    def fits(self, line: Line) -> bool:
        """Whether the map is for this line: by the program that wrote it, where both name one."""
        return not self.program or not line.program or line.program == self.program

    def read(self, line: Line, source: str, raw: str) -> Entry:
        """Parse the line into an entry."""
        results = {name: self._value(name, line) for name in FIELDS}
        at = line.at if not results["time"] else self._time(results["time"])
        outcome = results["outcome"] if results["outcome"] in LOGGED else ""
        outcome = outcome or next((word for word, says in self.outcomes if says.search(line.text)), "")
        text = results["text"] or line.text
        code = results["code"] or (match[1] if results["text"] and (match := _REPLY.match(text)) else "")
        message_id = results["message_id"]
        if message_id and not message_id.startswith("<"):
            message_id = f"<{message_id}>"
        return Entry(
            at, source, raw, results["host"] or line.host, results["id"], results["next_id"], message_id,
            results["sender"].strip("<>"), results["recipient"].strip("<>"), code, text, outcome,
        )  # fmt: skip

    def _value(self, name: str, line: Line) -> str:
        for key in self.names.get(name, ()):
            if key in line.pairs:
                return line.pairs[key]
        pattern = self.patterns.get(name)
        match = pattern.search(line.text) if pattern is not None else None
        return next((group for group in match.groups() if group is not None), "") if match is not None else ""

    def _time(self, text: str) -> float | None:
        if not self.time_form:
            return parse_time(text)
        from datetime import datetime

        try:
            at = datetime.strptime(text, self.time_form).timestamp()
        except (ValueError, OverflowError):
            return None
        return at if has_date(at) else None


def load_map(path: Path) -> LineMap:
    """A map from a file. Raises SettingsError, which names what is wrong in it and what to write."""
    try:
        return _made(parse_toml(path, path.read_text("utf-8")), str(path))
    except OSError as error:
        raise SettingsError([Finding(str(path), None, "", f"cannot be read ({error.strerror})")]) from error
    except UnicodeDecodeError as error:
        raise SettingsError([Finding(str(path), None, "", f"is not TOML: {error}")]) from error


@lru_cache(maxsize=1)
def shipped_maps() -> tuple[str, ...]:
    """The names of the maps that come with the product."""
    folder = resources.files(__package__).joinpath("maps")
    return tuple(sorted(file.name.removesuffix(".toml") for file in folder.iterdir() if file.name.endswith(".toml")))


@lru_cache(maxsize=8)
def shipped_map(name: str) -> LineMap:
    """One of the maps that come with the product."""
    return _made(tomllib.loads(resources.files(__package__).joinpath(f"maps/{name}.toml").read_text("utf-8")), name)


_KEYS = {"name": str, "about": str, "program": str, "time_form": str, "names": dict, "patterns": dict, "outcome": list}


class _Problems:
    """Collects the problems of a map."""

    def __init__(self, where: str) -> None:
        self.where = where
        self.found: list[Finding] = []

    def add(self, key: str, problem: str, remedy: str = "") -> None:
        """Add a finding."""
        self.found.append(Finding(self.where, None, key, problem, remedy))

    def stop(self) -> None:
        """Raise SettingsError, if there is any."""
        if self.found:
            raise SettingsError(self.found)


def _made(tables: Mapping[str, Any], where: str) -> LineMap:
    problems = _Problems(where)
    for key, value in tables.items():
        if key not in _KEYS:
            problems.add(key, "is no key of a line map", f"they are {', '.join(_KEYS)}")
        elif not isinstance(value, _KEYS[key]):
            problems.add(key, "is of the wrong kind", "see docs/line-maps.md")
    problems.stop()
    names, patterns = tables.get("names", {}), tables.get("patterns", {})
    for key in (*names, *patterns):
        if key not in FIELDS:
            problems.add(key, "is nothing that a line tells", f"there are {', '.join(FIELDS)}")
    compiled = {key: _compiled(f"patterns.{key}", value, problems) for key, value in patterns.items()}
    outcomes = [_outcome(number, result, problems) for number, result in enumerate(tables.get("outcome", ()), 1)]
    problems.stop()
    return LineMap(
        str(tables.get("name", where)),
        str(tables.get("program", "")),
        str(tables.get("time_form", "")),
        {key: tuple([value] if isinstance(value, str) else map(str, value)) for key, value in names.items()},
        compiled,
        tuple(outcomes),
    )


def _outcome(number: int, entry: object, problems: _Problems) -> tuple[str, re.Pattern[str]]:
    word, says = (entry.get("word"), entry.get("says")) if isinstance(entry, dict) else (None, None)
    if word not in LOGGED:
        problems.add(f"outcome {number}", "has no word that is known", f"it is one of {', '.join(LOGGED)}")
    return str(word), _compiled(f"outcome {number}", says, problems, groups=0)


def _compiled(key: str, value: object, problems: _Problems, groups: int = 1) -> re.Pattern[str]:
    """A pattern with as many groups at least."""
    try:
        pattern = re.compile(value if isinstance(value, str) else "(")
    except re.error as error:
        problems.add(key, f"is no pattern: {error if isinstance(value, str) else 'it is no text'}")
        return re.compile("()")
    if isinstance(value, str) and may_take_for_ever(value):
        problems.add(key, "may take for ever with some lines", "write it without a repetition within a repetition")
        return re.compile("()")
    if pattern.groups < groups:
        problems.add(key, "has no group", "put what is meant in brackets, as in id=(\\S+)")
    return pattern
