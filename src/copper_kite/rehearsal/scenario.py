"""A scenario: what is to be rehearsed. The same words on the command line and in a scenario file.

Each key of the file is an option; what may be given several times is a list there. Names and instants are resolved
later (`rehearsal.world`), when the configuration and the first day are known.
"""

from __future__ import annotations

import re
import tomllib
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated, Any, TypeVar, get_origin

from pydantic import BeforeValidator, Field, PrivateAttr, ValidationError

from copper_kite.errors import InputError
from copper_kite.rehearsal.instants import When, parse_when
from copper_kite.settings import Allowance, Pace, Table, parse_allowance, parse_duration, parse_pace

__all__ = [
    "Burst",
    "Downtime",
    "Limit",
    "Refused",
    "Scenario",
    "Slowness",
    "Takes",
    "read_scenario",
    "scenario_of",
    "scenario_schema",
]

NINE = When(9 * 3600.0)  # where no instant is named
_NAMED = re.compile(r"([^=]+)=(.+)")
_BURST = re.compile(r"(\d{1,8})(?:@([^/]+))?(?:/(.+))?")
_DOWN = re.compile(r"(silent:)?([^@]+)(?:@(.+))?")
_SLOW = re.compile(r"(\d{1,4}(?:\.\d{1,3})?)x(?::([^@]+))?(?:@(.+))?")
_REFUSE = re.compile(r"([45]\d\d)(?::([^@]+))?(?:@(.+))?")
_MILLISECONDS = re.compile(r"(\d{1,7}(?:\.\d{1,3})?)ms")


@dataclass(frozen=True, slots=True)
class Burst:
    """So many messages at an instant, from one sender (empty: the most active)."""

    messages: int
    at: When
    who: str


@dataclass(frozen=True, slots=True)
class Downtime:
    """A next hop (a connector, or one of its hosts) that refuses connections for a span, or is `silent`."""

    name: str
    seconds: float
    at: When
    silent: bool


@dataclass(frozen=True, slots=True)
class Slowness:
    """A next hop whose messages take `factor` times as long; for all of the time, where no span is named."""

    name: str
    factor: float
    seconds: float | None
    at: When


@dataclass(frozen=True, slots=True)
class Refused:
    """A domain whose recipients are refused with a code; for all of the time, where no span is named."""

    domain: str
    code: int
    seconds: float | None
    at: When


@dataclass(frozen=True, slots=True)
class Takes:
    """The speed of a next hop: a number of messages in all (`pace`), or seconds for each message of a session."""

    name: str
    pace: Pace | None
    seconds: float


@dataclass(frozen=True, slots=True)
class Limit:
    """An allowance that a connector has in the rehearsal."""

    name: str
    allowance: Allowance


def _split(text: Any, example: str) -> tuple[str, str]:
    match = _NAMED.fullmatch(text) if isinstance(text, str) else None
    if match is None:
        raise ValueError(f"{text!r}: write it as {example}")
    return match[1].strip(), match[2].strip()


def _fit(pattern: re.Pattern[str], text: Any, example: str) -> re.Match[str]:
    match = pattern.fullmatch(text) if isinstance(text, str) else None
    if match is None:
        raise ValueError(f"{text!r}: write it as {example}")
    return match


def _at(text: str | None) -> When:
    return parse_when(text) if text else NINE


def parse_burst(text: Any) -> Burst:
    """`20000@09:00/ticketing`. Raises ValueError."""
    match = _fit(_BURST, text, "20000@09:00/ticketing")
    return Burst(int(match[1]), _at(match[2]), match[3] or "")


def parse_down(text: Any) -> Downtime:
    """`beacon=6h@09:00`, `beacon=silent:6h`. Raises ValueError."""
    name, rest = _split(text, "beacon=6h@09:00")
    match = _fit(_DOWN, rest, "beacon=6h@09:00")
    return Downtime(name, _positive(match[2]), _at(match[3]), bool(match[1]))


def parse_slow(text: Any) -> Slowness:
    """`beacon=10x`, `beacon=10x:2h@14:00`. Raises ValueError."""
    name, rest = _split(text, "beacon=10x or beacon=10x:2h@14:00")
    match = _fit(_SLOW, rest, "beacon=10x or beacon=10x:2h@14:00")
    if not float(match[1]):
        raise ValueError(f"{text!r}: 0x is no time at all")
    return Slowness(name, float(match[1]), _positive(match[2]) if match[2] else None, _at(match[3]))


def parse_refuse(text: Any) -> Refused:
    """`passenger.example=451:2h`, `passenger.example=550`. Raises ValueError."""
    domain, rest = _split(text, "passenger.example=451:2h@09:00")
    match = _fit(_REFUSE, rest, "passenger.example=451:2h@09:00")
    return Refused(domain.lower(), int(match[1]), _positive(match[2]) if match[2] else None, _at(match[3]))


def parse_service(text: Any) -> Takes:
    """`beacon=1/s` (in all), `beacon=200ms` (for each message in a session). Raises ValueError."""
    name, rest = _split(text, "beacon=1/s or beacon=200ms")
    if "/" in rest:
        return Takes(name, parse_pace(rest), 0.0)
    match = _MILLISECONDS.fullmatch(rest)
    return Takes(name, None, float(match[1]) / 1000 if match else parse_duration(rest))


def parse_limit(text: Any) -> Limit:
    """`beacon=200/day`. Raises ValueError."""
    name, rest = _split(text, "beacon=200/day")
    return Limit(name, parse_allowance(rest))


def _positive(text: str) -> float:
    seconds = parse_duration(text)
    if not seconds:
        raise ValueError(f"{text!r} is no time at all")
    return seconds


def _pace(value: Any) -> Pace | None:
    return value if value is None else parse_pace(value)


def _duration(value: Any) -> float | None:
    return value if value is None else _positive(value)


class Scenario(Table):
    """The keys of a scenario file, which are the options of the command."""

    title: str = Field(default="", description="What it is, for people.")
    rate: Annotated[Pace | None, BeforeValidator(_pace)] = Field(
        default=None, description='Messages that arrive, as "600/h", in place of what history says.'
    )
    load: float = Field(default=1.0, gt=0, le=1000, description="How many times as many messages as history says.")
    replay: str = Field(default="", description='Messages as they were submitted from this time on: "2026-11-02".')
    start: str = Field(default="", description='The first day: "mon", "2026-12-01"; by default tomorrow.')
    span: Annotated[float | None, BeforeValidator(_duration)] = Field(
        default=None, alias="for", description='How long messages arrive: "1d"; by default until all troubles are over.'
    )
    burst: list[Annotated[Burst, BeforeValidator(parse_burst)]] = Field(
        default=[], description='Messages that come at once: "20000@09:00/ticketing".'
    )
    service: list[Annotated[Takes, BeforeValidator(parse_service)]] = Field(
        default=[], description='What a next hop takes: "beacon=1/s" in all, "beacon=200ms" for a message.'
    )
    down: list[Annotated[Downtime, BeforeValidator(parse_down)]] = Field(
        default=[], description='When a next hop refuses connections: "beacon=6h@mon-08:00"; "silent:" answers nothing.'
    )
    slow: list[Annotated[Slowness, BeforeValidator(parse_slow)]] = Field(
        default=[], description='How many times as long it takes: "beacon=10x", "beacon=10x:2h@14:00".'
    )
    refuse: list[Annotated[Refused, BeforeValidator(parse_refuse)]] = Field(
        default=[], description='A domain that is refused: "passenger.example=451:2h".'
    )
    allowance: list[Annotated[Limit, BeforeValidator(parse_limit)]] = Field(
        default=[], description='An allowance: "beacon=200/day".'
    )
    set: list[str] = Field(default=[], description='Keys of the configuration: "connector.beacon.sessions=5".')
    without: list[str] = Field(default=[], description="Connectors that are not there.")

    _written: dict[str, tuple[str, ...]] = PrivateAttr(default_factory=dict)

    @property
    def named(self) -> list[str]:
        """The connectors and next hops that it is about."""
        return [
            *(item.name for item in self.down),
            *(item.name for item in self.service),
            *(item.name for item in self.slow),
            *(item.name for item in self.allowance),
        ]

    @property
    def written(self) -> dict[str, tuple[str, ...]]:
        """The keys as they were written."""
        return self._written


def scenario_of(values: dict[str, Any], base: Scenario | None = None) -> Scenario:
    """A scenario from keys as they are written, on top of another one. Raises InputError."""
    given = {name: value for name, value in values.items() if value not in (None, ())}
    lists = {name: list(value) for name, value in given.items() if isinstance(value, tuple)}
    try:
        scenario = Scenario.model_validate(given | lists)
    except ValidationError as error:
        raise InputError(_explained(error), usage=True) from error
    if scenario.rate is not None and scenario.replay:
        raise InputError("rate and replay exclude each other", usage=True)
    for name, value in given.items():
        scenario._written[name] = tuple(map(str, value)) if isinstance(value, list | tuple) else (str(value),)
    return scenario if base is None else _combined(base, scenario)


def _combined(base: Scenario, over: Scenario) -> Scenario:
    """Lists are added, other keys are replaced."""
    changed: dict[str, Any] = {}
    for name in over.model_fields_set:
        value = getattr(over, name)
        changed[name] = [*getattr(base, name), *value] if isinstance(value, list) else value
    combined = base.model_copy(update=changed)
    combined._written = {**base._written, **over._written}
    for name in over._written.keys() & base._written.keys():
        if isinstance(getattr(over, name, None), list):
            combined._written[name] = base._written[name] + over._written[name]
    return combined


def _explained(error: ValidationError) -> str:
    lines = []
    for item in error.errors():
        key = str(item["loc"][0]) if item["loc"] else "scenario"
        text = item["msg"].removeprefix("Value error, ")
        if item["type"] == "extra_forbidden":
            text = "unknown key; the keys are " + ", ".join(names_of(Scenario))
        lines.append(f"{key}: {text}")
    return "\n".join(lines)


T = TypeVar("T", bound=Table)


def names_of(model: type[T]) -> Sequence[str]:
    """The keys of a table, as they are written."""
    return [field.alias or name for name, field in model.model_fields.items()]


def read_scenario(path: Path) -> Scenario:
    """A scenario file (TOML). Raises InputError."""
    try:
        tables = tomllib.loads(path.read_text("utf-8"))
    except (OSError, UnicodeDecodeError) as error:
        raise InputError(f"{path} cannot be read ({error})") from error
    except tomllib.TOMLDecodeError as error:
        raise InputError(f"{path} is not TOML: {error}", usage=True) from error
    try:
        return scenario_of(tables)
    except InputError as error:
        raise InputError("\n".join(f"{path}: {line}" for line in str(error).splitlines()), usage=True) from error


def scenario_schema() -> dict[str, Any]:
    """The JSON Schema (draft 2020-12) of a scenario file."""
    properties: dict[str, Any] = {}
    for name, field in Scenario.model_fields.items():
        text = {"type": "string"}
        many = get_origin(field.annotation) is list
        kind = {"type": "array", "items": text} if many else {"type": "number"} if name == "load" else text
        properties[field.alias or name] = {**kind, "description": field.description}
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "A scenario of kite rehearse",
        "type": "object",
        "additionalProperties": False,
        "properties": properties,
    }
