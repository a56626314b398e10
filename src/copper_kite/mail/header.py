"""A quick look into a header: which fields there are and what they say. Nothing is changed (RFC 5322 2.2)."""

from __future__ import annotations

import re
from dataclasses import dataclass

__all__ = ["Header", "header_end", "scan_header"]

_FIELD_NAME = re.compile(rb"^([!-9;-~]+)[ \t]*:", re.MULTILINE)
_FOLD = re.compile(rb"\r?\n(?=[ \t])")


@dataclass(frozen=True, slots=True)
class Header:
    """The names of the fields, in lower case and order, and the octets they were found in."""

    octets: bytes
    names: tuple[bytes, ...]

    def __contains__(self, name: bytes) -> bool:
        return name in self.names

    def value(self, name: bytes) -> str:
        """The first field's value, unfolded; empty when there is none."""
        match = re.search(rb"(?im)^" + re.escape(name) + rb"[ \t]*:((?:.|\r?\n[ \t])*)", self.octets)
        if match is None:
            return ""
        return _FOLD.sub(b"", match.group(1)).strip().decode("utf-8", "replace")


def header_end(content: bytes) -> int:
    """Where the header ends: the index of the empty line, or the length when there is none."""
    if content.startswith(b"\r\n"):
        return 0
    end = content.find(b"\r\n\r\n")
    return len(content) if end < 0 else end + 2


def scan_header(content: bytes) -> Header:
    """The header at the start of `content` (lines end with CR LF)."""
    octets = content[: header_end(content)]
    return Header(octets, tuple(_FIELD_NAME.findall(octets.lower())))
