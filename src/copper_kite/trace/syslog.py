"""Lines of logs in open formats: when, where, which program, and the words; pairs of name and value, where there are.

RFC 5424, lines like RFC 3164's, lines that begin with a time of RFC 3339 and JSON objects, one a line.
"""

from __future__ import annotations

import codecs
import json
import re
import time
from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from copper_kite.clock import has_date
from copper_kite.errors import KiteError

__all__ = ["Line", "NotSyslog", "Structured", "parse_line", "parse_rfc5424", "parse_time"]

MAX_PAIRS = 100  # name and value, in one line
_RFC5424 = re.compile(rb"<(0|[1-9]\d{0,2})>([1-9]\d{0,2}) (\S{1,64}) (\S{1,255}) (\S{1,48}) (\S{1,128}) (\S{1,32}) ")
_RFC3339 = re.compile(r"(\d{4}-\d\d-\d\d)[T ](\d\d:\d\d:\d\d)(?:[.,](\d{1,9}))?\s?(Z|[+-]\d\d:?\d\d)?")
_STRICT = re.compile(r"\d{4}-\d\d-\d\dT\d\d:\d\d:[0-5]\d(?:\.\d{1,6})?(?:Z|[+-]\d\d:\d\d)")
_OLD = re.compile(r"(?:<\d{1,3}>)?([A-Z][a-z]{2}) {1,2}(\d{1,2}) (\d\d):(\d\d):(\d\d)(?: \d{4})? ")
_PROGRAM = re.compile(r"(\S+) ([A-Za-z0-9_./-]{1,64})(?:\[(\d+)\])?:? (.*)", re.S)
_PAIR = re.compile(r'(?:^|\s)([A-Za-z_][\w.-]{0,63})=("(?:[^"\\]|\\.)*"|[^\s"]\S*)')
_NAMES = ("Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec")
_MONTHS = {name: number for number, name in enumerate(_NAMES, 1)}
DAY = 86400.0


class NotSyslog(KiteError):
    """Raised when a line is not what RFC 5424 says."""


@dataclass(slots=True)
class Line:
    """One line. `at` in seconds since 1970, None when the line has no time; `pairs` are its named values."""

    at: float | None
    host: str
    program: str
    text: str
    pairs: dict[str, str] = field(default_factory=dict)


@dataclass(slots=True, kw_only=True)
class Structured(Line):
    """A line of RFC 5424, whole. NIL values are empty; `text_known` is False where its octets may be anything."""

    facility: int
    severity: int
    version: int
    process: str
    kind: str
    data: dict[str, dict[str, list[str]]]
    text_known: bool


def parse_line(octets: bytes, now: float) -> Line:
    """A line of whatever kind; what is none of them is text without a time. `now` tells the year where none is."""
    octets = octets.rstrip(b"\r\n")
    if octets.startswith(b"<"):
        try:
            return parse_rfc5424(octets)
        except NotSyslog:
            pass
    text = octets.decode("utf-8", "replace")
    if text.startswith("{"):
        result = _json_line(text)
        if result is not None:
            return result
    if (match := _OLD.match(text)) is not None:
        return _with_program(_old_time(match, now), text[match.end() :])
    if (match := _RFC3339.match(text)) is not None:
        rest = text[match.end() :].lstrip()
        line = _with_program(_instant(match), rest)
        return line if ":" in rest[: len(rest) - len(line.text)] else Line(line.at, "", "", rest, _pairs(rest))
    return Line(None, "", "", text, _pairs(text))


def _with_program(at: float | None, rest: str) -> Line:
    """`host program[process]: text`."""
    match = _PROGRAM.match(rest)
    if match is None:
        return Line(at, "", "", rest, _pairs(rest))
    return Line(at, match[1], match[2], match[4], _pairs(match[4]))


def _pairs(text: str) -> dict[str, str]:
    """`name=value` and `name="va lue"`; the first of a name counts."""
    results: dict[str, str] = {}
    for count, match in enumerate(_PAIR.finditer(text)):
        if count == MAX_PAIRS:
            break
        value = match[2]
        if value.startswith('"'):
            value = re.sub(r"\\(.)", r"\1", value[1:-1])
        results.setdefault(match[1], value.rstrip(",;"))
    return results


# --- times ------------------------------------------------------------------------------------------------------------


def parse_time(text: str) -> float | None:
    """A time in the form of RFC 3339, or close to it (a blank for the T; local time where no zone is given)."""
    match = _RFC3339.match(text.strip())
    return None if match is None else _instant(match)


def _instant(match: re.Match[str]) -> float | None:
    day, clock, fraction, zone = match.groups()
    if zone and zone != "Z" and ":" not in zone:
        zone = f"{zone[:3]}:{zone[3:]}"
    try:
        at = datetime.fromisoformat(f"{day}T{clock}{'+00:00' if zone == 'Z' else zone or ''}").timestamp()
    except (ValueError, OverflowError):
        return None
    return at + (float(f"0.{fraction}") if fraction else 0.0) if has_date(at) else None


def _old_time(match: re.Match[str], now: float) -> float | None:
    """Local time without a year: the one that puts it before tomorrow, and as late as can be."""
    month = _MONTHS.get(match[1])
    year = time.localtime(now + DAY).tm_year
    for candidate in (year, year - 1):
        try:
            day, hour, minute, second = map(int, match.groups()[1:])
            moment = datetime(candidate, month or 0, day, hour, minute, min(second, 59))
        except ValueError:
            continue
        if moment.timestamp() <= now + DAY:
            return moment.timestamp()
    return None


# --- JSON -------------------------------------------------------------------------------------------------------------

_TIMES = ("time", "timestamp", "@timestamp", "ts", "t", "date")
_TEXTS = ("text", "message", "msg", "MESSAGE", "log")


def _json_line(text: str) -> Line | None:
    try:
        value = json.loads(text)
    except (ValueError, RecursionError):
        return None
    if not isinstance(value, dict):
        return None
    pairs = dict(list(_flat(value))[:MAX_PAIRS])
    at = next((result for name in _TIMES if name in pairs and (result := _json_time(pairs[name])) is not None), None)
    words: str = next((pairs[name] for name in _TEXTS if name in pairs), text)
    return Line(at, pairs.get("host", pairs.get("hostname", "")), pairs.get("program", ""), words, pairs)


def _json_time(text: str) -> float | None:
    try:
        number = float(text)
    except ValueError:
        return parse_time(text)
    return number / 1000 if number > 1e11 else number  # milliseconds since 1970, as some write it


def _flat(value: dict[str, Any], above: str = "", depth: int = 0) -> Iterator[tuple[str, str]]:
    """Names and values, those of objects inside with a dot between; lists by their values."""
    for name, inner in value.items():
        if isinstance(inner, dict) and depth < 4:
            yield from _flat(inner, f"{above}{name}.", depth + 1)
        elif isinstance(inner, list):
            yield f"{above}{name}", " ".join(str(item) for item in inner)
        elif inner is not None:
            yield f"{above}{name}", str(inner)


# --- RFC 5424 ---------------------------------------------------------------------------------------------------------


def parse_rfc5424(octets: bytes) -> Structured:
    """A line of RFC 5424 (6). Raises NotSyslog, which says where it is none."""
    match = _RFC5424.match(octets)
    if match is None:
        raise NotSyslog("its header has not the form of RFC 5424 6")
    priority, version, stamp, host, program, process, kind = (part.decode("latin-1") for part in match.groups())
    if int(priority) > 191:
        raise NotSyslog(f"there is no priority {priority}")
    if stamp != "-" and (_STRICT.fullmatch(stamp) is None or parse_time(stamp) is None):
        raise NotSyslog(f"{stamp} is no time of RFC 5424 6.2.3")
    data, end = _structured_data(octets, match.end())
    rest = octets[end + 1 :] if octets[end : end + 1] == b" " else b""
    if octets[end : end + 1] not in (b" ", b""):
        raise NotSyslog("something stands between the structured data and the message")
    known = rest.startswith(codecs.BOM_UTF8)
    text = rest.removeprefix(codecs.BOM_UTF8).decode("utf-8", "replace")
    pairs = {name: values[0] for element in data.values() for name, values in element.items()}
    return Structured(
        parse_time(stamp), _nil(host), _nil(program), text, pairs or _pairs(text), facility=int(priority) >> 3,
        severity=int(priority) & 7, version=int(version), process=_nil(process), kind=_nil(kind), data=data,
        text_known=known,
    )  # fmt: skip


def _nil(value: str) -> str:
    return "" if value == "-" else value


_ELEMENT = re.compile(rb"\[([!#-<>-\\^-~]{1,32})")
_PARAMETER = re.compile(rb' ([!#-<>-\\^-~]{1,32})="((?:[^"\\\]]|\\.)*)"', re.S)


def _structured_data(octets: bytes, at: int) -> tuple[dict[str, dict[str, list[str]]], int]:
    """Elements by their ids, each with its parameters, and where they end (RFC 5424 6.3)."""
    if octets[at : at + 1] == b"-":
        return {}, at + 1
    data: dict[str, dict[str, list[str]]] = {}
    while (element := _ELEMENT.match(octets, at)) is not None:
        at, values = element.end(), data.setdefault(element[1].decode("ascii"), {})
        while (parameter := _PARAMETER.match(octets, at)) is not None:
            value = re.sub(rb'\\(["\\\]])', rb"\1", parameter[2]).decode("utf-8", "replace")
            values.setdefault(parameter[1].decode("ascii"), []).append(value)
            at = parameter.end()
        if octets[at : at + 1] != b"]":
            raise NotSyslog("its structured data does not end")
        at += 1
    if not data:
        raise NotSyslog("its structured data has not the form of RFC 5424 6.3")
    return data, at
