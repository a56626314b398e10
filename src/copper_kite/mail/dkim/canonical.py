"""The parts of a message that a signature covers, in the form in which they are hashed (RFC 6376 3.4)."""

from __future__ import annotations

import hashlib
import re
from base64 import b64encode

__all__ = ["BodyDigest", "canonical_field", "field_name", "split_fields"]

_FIELD_START = re.compile(rb"\r\n(?![ \t])")
_RUN = re.compile(rb"[ \t]{2,}|\t")
_LONE = re.compile(rb"\r(?!\n)|(?<!\r)\n")
BLANKS_AT_ONCE = 4096  # empty lines hashed together: a body may consist of nothing else


def split_fields(header: bytes) -> list[bytes]:
    """The fields of a header, each with its name and folds and without its last CRLF."""
    return _FIELD_START.split(header.removesuffix(b"\r\n\r\n").removesuffix(b"\r\n"))


def field_name(field: bytes) -> bytes:
    """The name of a field in lower case."""
    return field[: field.find(b":")].rstrip(b" \t").lower()


def canonical_field(field: bytes, *, relaxed: bool) -> bytes:
    """A field as it is hashed, without the CRLF after it (RFC 6376 3.4.1, 3.4.2)."""
    if not relaxed:
        return field
    name, _, value = field.partition(b":")
    if b"\r\n" in value:
        value = value.replace(b"\r\n", b"")
    if b"  " in value or b"\t" in value:
        value = _RUN.sub(b" ", value)
    return name.rstrip(b" \t").lower() + b":" + value.strip(b" \t")


class BodyDigest:
    """The SHA-256 of a body (RFC 6376 3.7), which comes in any portions and is never in memory as a whole.

    `limit` is how many octets of the canonical body count (`l=`).
    """

    def __init__(self, *, relaxed: bool = True, limit: int | None = None) -> None:
        self._relaxed = relaxed
        self._hash = hashlib.sha256()
        self._left = limit
        self._blank = 0  # empty lines that count only if something follows
        self._rest = b""  # what follows them and is not yet known to end a line
        self.octets = 0  # of the canonical body

    def update(self, portion: bytes) -> None:
        """Take in the next octets of the body."""
        data = self._rest + portion
        place = len(data.rstrip(b" \t\r\n" if self._relaxed else b"\r\n"))
        if len(data) - place != 2 or not data.endswith(b"\r\n"):  # it seldom ends otherwise
            for lone in _LONE.finditer(data, place, len(data) - data.endswith(b"\r")):
                place = lone.end()
        if place:
            self._blanks()
            self._take(self._squeezed(data[:place]))
        lines, ending, self._rest = self._squeezed(data[place:]).rpartition(b"\r\n")
        self._blank += (len(lines) + len(ending)) // 2

    def value(self) -> bytes:
        """The digest in base64, after the last octet; once."""
        rest = self._rest.rstrip(b" \t") if self._relaxed else self._rest
        if rest:  # a last line without its end gets one
            self._blanks()
            self._take(rest)
        if rest or self.octets or not self._relaxed:
            self._take(b"\r\n")
        self._blank, self._rest = 0, b""
        return b64encode(self._hash.digest())

    def _squeezed(self, data: bytes) -> bytes:
        if not self._relaxed:
            return data
        if b"  " in data or b"\t" in data:
            data = _RUN.sub(b" ", data)
        return data.replace(b" \r\n", b"\r\n")

    def _blanks(self) -> None:
        while self._blank:
            lines = min(self._blank, BLANKS_AT_ONCE)
            self._take(b"\r\n" * lines)
            self._blank -= lines

    def _take(self, data: bytes) -> None:
        self.octets += len(data)
        if self._left is None:
            self._hash.update(data)
        elif self._left > 0:
            self._hash.update(data[: self._left])
            self._left -= len(data)
