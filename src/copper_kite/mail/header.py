"""A quick look into a header: which fields there are and what they say. Nothing is changed (RFC 5322 2.2)."""

from __future__ import annotations

import re
from collections.abc import Iterable
from functools import lru_cache

__all__ = [
    "FOLD",
    "MAX_MESSAGE_ID",
    "MAX_SUBJECT",
    "Header",
    "all_values",
    "decode_words",
    "header_end",
    "header_fields",
    "scan_header",
]

MAX_MESSAGE_ID = 998  # characters kept
MAX_SUBJECT = 200  # characters kept
_SURROGATE = re.compile("[\ud800-\udfff]")
MAX_WORDS = 4000  # characters in which encoded words are looked for

FOLD = re.compile(rb"\r?\n(?=[ \t])")


@lru_cache(maxsize=64)
def _field(name: bytes) -> re.Pattern[bytes]:
    return re.compile(rb"(?im)^" + re.escape(name) + rb"[ \t]*:((?:[^\r\n]++|\r?\n[ \t])*+)")


class Header:
    """A header's octets, with CR LFs and without the empty line. Fields are looked for by name, in any case."""

    __slots__ = ("octets",)

    def __init__(self, octets: bytes) -> None:
        self.octets = octets

    def __contains__(self, name: bytes) -> bool:
        return _field(name).search(self.octets) is not None

    def value(self, name: bytes) -> str:
        """The first field's value, unfolded; empty when there is none."""
        match = _field(name).search(self.octets)
        if match is None:
            return ""
        value = match.group(1)
        if b"\n" in value:
            value = FOLD.sub(b"", value)
        return value.strip().decode("utf-8", "replace")


_ANY_FIELD = re.compile(rb"([!-9;-~]+)[ \t]*:((?:[^\r\n]++|\r?\n[ \t])*+)(?:\r?\n|\Z)")


def header_fields(content: bytes) -> list[tuple[str, str]]:
    """All fields of a header in their order, the names in lower case, the values unfolded; line ends may be LF alone.

    It ends with the first line that is neither a field nor part of one. A first line of an mbox is passed over.
    """
    at = content.find(b"\n") + 1 if content.startswith(b"From ") else 0
    results = []
    while (match := _ANY_FIELD.match(content, at)) is not None:
        value = FOLD.sub(b"", match[2]).strip().decode("utf-8", "replace")
        results.append((match[1].decode("ascii").lower(), value))
        at = match.end()
    return results


def all_values(header: Header, names: Iterable[bytes]) -> list[str]:
    """The values of all fields with one of these names, unfolded."""
    results = [match[1] for name in names for match in _field(name).finditer(header.octets)]
    return [FOLD.sub(b"", value).strip().decode("utf-8", "replace") for value in results]


def decode_words(text: str) -> str:
    """`text` with its encoded words as what they mean (RFC 2047); as it is where they are broken."""
    if "=?" not in text:
        return text
    from email.errors import MessageError
    from email.header import decode_header, make_header

    try:
        result = str(make_header(decode_header(text[:MAX_WORDS])))
    except (MessageError, LookupError, ValueError):
        return text
    return text if _SURROGATE.search(result) else result  # utf-7 can spell what is no text


def header_end(content: bytes, start: int = 0) -> int:
    """Where the header that begins at `start` ends: the index of the empty line, or the length when there is none."""
    if content.startswith(b"\r\n", start):
        return start
    end = content.find(b"\r\n\r\n", start)
    return len(content) if end < 0 else end + 2


def scan_header(content: bytes) -> Header:
    """The header of `content` (lines end with CR LF)."""
    return Header(content[: header_end(content)])
