"""`Content-Type` and fields like it: a value and its parameters (RFC 2045 5.1, RFC 2231). Linear in their length."""

from __future__ import annotations

import re
from typing import NamedTuple
from urllib.parse import unquote

__all__ = ["ContentType", "parse_content_type", "split_parameters"]

MAX_VALUE = 16 * 1024  # octets of one field that are read; a longer one says nothing that anybody needs
_VALUE = re.compile(r"\s*([^\s;()]*)")
_PARAMETER = re.compile(r';\s*+([^\s=;"()]++)\s*+=\s*+("(?:[^"\\]|\\.)*+"?+|[^\s;()"]*+)', re.S)
_COMMENT = re.compile(r"\([^()\\]*+\)")
_ESCAPE = re.compile(r"\\(.)", re.S)


class ContentType(NamedTuple):
    """The type, its second half, and the parameters; all in lower case but the parameters' values."""

    main: str
    sub: str
    parameters: dict[str, str]

    @property
    def name(self) -> str:
        """The type as in `text/plain`."""
        return f"{self.main}/{self.sub}"


def parse_content_type(value: str, default: str = "text/plain") -> ContentType:
    """Parse an unfolded value; an invalid one counts as `default` (RFC 2045 5.2)."""
    kind, parameters = split_parameters(value)
    main, slash, sub = kind.lower().partition("/")
    if not (main and slash and sub):
        main, _, sub = default.partition("/")
    return ContentType(main, sub, parameters)


def split_parameters(value: str) -> tuple[str, dict[str, str]]:
    """The value proper, and its parameters by name in lower case, decoded; of several with one name, the first."""
    value = _COMMENT.sub(" ", value[:MAX_VALUE])
    match = _VALUE.match(value)
    results: dict[str, str] = {}
    pieces: dict[str, dict[int, str]] = {}
    for name, text in _PARAMETER.findall(value):
        text = _ESCAPE.sub(r"\1", text[1:].removesuffix('"')) if text.startswith('"') else text
        name, star, place = name.lower().partition("*")
        if star and place.rstrip("*").isdecimal():
            pieces.setdefault(name, {}).setdefault(int(place.rstrip("*")[:4]), text)
        else:
            results.setdefault(name, _decoded(text) if star else text)
    for name, parts in pieces.items():
        results.setdefault(name, _decoded("".join(parts[place] for place in sorted(parts))))
    return (match[1] if match is not None else ""), results


def _decoded(text: str) -> str:
    """`utf-8''%C3%A5` as what it means (RFC 2231 4)."""
    charset, quote, rest = text.partition("'")
    if not quote or "'" not in rest:
        return text
    try:
        decoded = unquote(rest.partition("'")[2], encoding=charset or "utf-8", errors="replace")
    except (LookupError, ValueError):  # no such character set, or none of text
        return text
    return decoded.encode("utf-8", "replace").decode()  # some can spell what is no text
