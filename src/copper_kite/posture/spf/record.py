"""An SPF record as text and as terms (RFC 7208 3, 4.6, 5, 12)."""

from __future__ import annotations

import ipaddress
import re
from collections.abc import Iterable
from typing import NamedTuple

__all__ = ["LOOKING_UP", "Mechanism", "SpfProblem", "SpfRecord", "parse_record", "select_record"]

QUALIFIERS = {"+": "pass", "-": "fail", "~": "softfail", "?": "neutral"}
LOOKING_UP = ("include", "a", "mx", "ptr", "exists")  # each costs a lookup (RFC 7208 4.6.4)
_TERM = re.compile(r"[^ ]+")
_MECHANISM = re.compile(r"(?P<qualifier>[+?~-]?)(?P<name>[A-Za-z][A-Za-z0-9_.-]*)(?P<rest>[:/].*)?", re.S)
_MODIFIER = re.compile(r"(?P<name>[A-Za-z][A-Za-z0-9_.-]*)=(?P<value>.*)", re.S)
_CIDR = re.compile(r"(?:/(?P<four>\d{1,3}))?(?://(?P<six>\d{1,3}))?$")
_MACRO_TEXT = re.compile(r"(?:%\{[slodiphvcrtSLODIPHVCRT]\d*r?[.+,/_=-]*\}|%%|%_|%-|[!-$&-~])*")
_END_OF_NAME = re.compile(r"\.(?:[A-Za-z0-9-]*[A-Za-z-][A-Za-z0-9-]*)\.?$|%\{[^}]*\}$")


class SpfProblem(NamedTuple):
    """A fault of a record: the column where it begins, from 1, and what it is."""

    place: int
    text: str


class Mechanism(NamedTuple):
    """A mechanism. `value` is its domain, still with macros, or its network; prefix lengths are those of `a` and `mx`;
    `text` is its original form."""

    kind: str
    result: str  # what it makes of an address that it matches
    value: str
    text: str
    four: int = 32
    six: int = 128


class SpfRecord(NamedTuple):
    """The parsed record; with problems it counts as `permerror`."""

    text: str
    mechanisms: tuple[Mechanism, ...]
    redirect: str = ""
    problems: tuple[SpfProblem, ...] = ()


def select_record(texts: Iterable[str]) -> list[str]:
    """The SPF records among the TXT records of a name (RFC 7208 4.5)."""
    return [text for text in texts if re.match(r"v=spf1(?: |$)", text, re.I)]


def parse_record(text: str) -> SpfRecord:
    """The record with this text, which begins with its version."""
    mechanisms: list[Mechanism] = []
    modifiers: dict[str, str] = {}
    problems: list[SpfProblem] = []
    for term in _TERM.finditer(text, len("v=spf1")):
        try:
            if (modifier := _MODIFIER.fullmatch(term[0])) is not None:
                _take_modifier(modifier, modifiers)
            else:
                mechanisms.append(_mechanism(term[0]))
        except ValueError as error:
            problems.append(SpfProblem(term.start() + 1, f"{term[0][:60]}: {error}"))
    if not text.isascii():
        place = next(place for place, character in enumerate(text) if not character.isascii())
        problems.append(SpfProblem(place + 1, "a character that is not ASCII"))
    return SpfRecord(text, tuple(mechanisms), modifiers.get("redirect", ""), tuple(sorted(problems)))


def _take_modifier(modifier: re.Match[str], modifiers: dict[str, str]) -> None:
    name, value = modifier["name"].lower(), modifier["value"]
    if name in ("redirect", "exp"):
        if name in modifiers:
            raise ValueError(f"a second {name}=")
        _check_domain(value)
    elif not _MACRO_TEXT.fullmatch(value):
        raise ValueError("an invalid macro")
    modifiers[name] = value


def _mechanism(text: str) -> Mechanism:
    match = _MECHANISM.fullmatch(text)
    if match is None:
        raise ValueError("neither a mechanism nor a modifier")
    kind, rest = match["name"].lower(), match["rest"] or ""
    result = QUALIFIERS[match["qualifier"] or "+"]
    if kind == "all":
        if rest:
            raise ValueError("`all` takes no argument")
        return Mechanism(kind, result, "", text)
    if kind in ("ip4", "ip6"):
        return Mechanism(kind, result, _network(kind, rest), text)
    if kind in ("include", "exists"):
        _check_domain(rest.removeprefix(":") if rest.startswith(":") else "")
        return Mechanism(kind, result, rest[1:], text)
    if kind in ("a", "mx", "ptr"):
        return _with_prefixes(kind, result, rest, text)
    raise ValueError(f"there is no mechanism {kind!r}")


def _with_prefixes(kind: str, result: str, rest: str, text: str) -> Mechanism:
    cidr = _CIDR.search(rest) if kind != "ptr" else None
    lengths = (cidr["four"], cidr["six"]) if cidr is not None else (None, None)
    domain = rest[: cidr.start()] if cidr is not None else rest
    if domain:
        _check_domain(domain.removeprefix(":") if domain.startswith(":") else "")
    four, six = int(lengths[0] or 32), int(lengths[1] or 128)
    if four > 32 or six > 128 or any(length and length.startswith("0") and length != "0" for length in lengths):
        raise ValueError("an invalid prefix length")
    return Mechanism(kind, result, domain[1:], text, 0 if lengths[0] == "0" else four, 0 if lengths[1] == "0" else six)


def _network(kind: str, rest: str) -> str:
    if not rest.startswith(":"):
        raise ValueError("no network after it")
    try:
        network = ipaddress.ip_network(rest[1:], strict=False)
    except ValueError as error:
        raise ValueError(f"{rest[1:]!r} is not a network") from error
    if network.version != int(kind[2]):
        raise ValueError(f"{rest[1:]!r} is of IPv{network.version}")
    return str(network)


def _check_domain(value: str) -> None:
    """A domain-spec (RFC 7208 7.1). Raises ValueError."""
    if not value:
        raise ValueError("no domain after it")
    if not _MACRO_TEXT.fullmatch(value):
        raise ValueError("an invalid macro")
    if not _END_OF_NAME.search(value):
        raise ValueError(f"{value!r} is not a domain name")
