"""The parts of a message, decoded (RFC 2045, RFC 2046 5.1): as much of MIME as reading a notice needs."""

from __future__ import annotations

import base64
import binascii
import quopri
import re
from collections.abc import Iterator
from itertools import islice
from typing import NamedTuple

from copper_kite.mail.content_type import split_parameters
from copper_kite.mail.header import header_fields

__all__ = ["MAX_DEPTH", "Part", "mime_parts"]

MAX_DEPTH = 8  # of parts in parts
MAX_PARTS = 1000  # side by side
_BLANK = re.compile(rb"\r?\n[ \t]*\r?\n|\A\r?\n")


class Part(NamedTuple):
    """One part without parts: its type in lower case, its header's fields, and its octets, decoded."""

    kind: str
    fields: dict[str, str]
    octets: bytes

    @property
    def text(self) -> str:
        """The octets as text, in the character set that is named, or as near to it as can be."""
        charset = split_parameters(self.fields.get("content-type", ""))[1].get("charset") or "utf-8"
        try:
            return self.octets.decode(charset, "replace")
        except (LookupError, ValueError):  # no such character set, or none of text
            return self.octets.decode("utf-8", "replace")


def mime_parts(content: bytes, depth: int = 0) -> Iterator[Part]:
    """All parts in order; a message is not looked into, only what is made of parts."""
    cut = _BLANK.search(content)
    head, body = (content, b"") if cut is None else (content[: cut.end()], content[cut.end() :])
    results: dict[str, str] = {}
    for name, value in header_fields(head):
        results.setdefault(name, value)
    kind, parameters = split_parameters(results.get("content-type", "text/plain"))
    kind, boundary = kind.lower(), parameters.get("boundary", "")
    if kind.startswith("multipart/") and boundary and depth < MAX_DEPTH:
        for piece in _split(body, boundary.encode("utf-8", "replace")):
            yield from mime_parts(piece, depth + 1)
    else:
        yield Part(kind, results, _decode(body, results.get("content-transfer-encoding", "").lower()))


def _split(body: bytes, boundary: bytes) -> Iterator[bytes]:
    """The parts between the boundaries; what comes before the first and after the last is ignored."""
    line = re.compile(rb"(?:\A|\r?\n)--" + re.escape(boundary) + rb"(--)?[ \t]*(?:\r?\n|\Z)")
    marks = list(islice(line.finditer(body), MAX_PARTS))
    for mark, after in zip(marks, [*marks[1:], None], strict=False):
        if mark[1]:
            return
        yield body[mark.end() : after.start() if after is not None else len(body)]


def _decode(body: bytes, encoding: str) -> bytes:
    if encoding == "base64":
        try:
            return base64.b64decode(body)
        except (binascii.Error, ValueError):
            return body
    return quopri.decodestring(body) if encoding == "quoted-printable" else body
