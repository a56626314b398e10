"""What a script hands in, made into a message: line ends, and the fields that RFC 5322 3.6 demands."""

from __future__ import annotations

import re

from copper_kite.mail.header import scan_header
from copper_kite.mail.received import format_date

__all__ = ["mend", "normalise_line_ends"]

_LINE_END = re.compile(rb"\r\n|\r|\n")
_FIELD = re.compile(rb"[!-9;-~]+[ \t]*:")


def normalise_line_ends(octets: bytes) -> bytes:
    """Every CR, LF and CR LF as CR LF, with one at the end."""
    octets = _LINE_END.sub(b"\r\n", octets)
    return octets if not octets or octets.endswith(b"\r\n") else octets + b"\r\n"


def mend(octets: bytes, *, sender: str, message_id: str, at: float) -> bytes:
    """`octets` with CR LFs, a header of its own, and From, Date and Message-ID where they were missing.

    Text without a header becomes the body of a message. What is there stays as it is.
    """
    octets = normalise_line_ends(octets)
    if not _FIELD.match(octets) and not octets.startswith(b"\r\n"):
        octets = b"\r\n" + octets
    header = scan_header(octets)
    if len(header.octets) == len(octets):
        octets += b"\r\n"
    added = []
    if b"from" not in header:
        added.append(f"From: <{sender}>")
    if b"date" not in header:
        added.append(f"Date: {format_date(at)}")
    if b"message-id" not in header:
        added.append(f"Message-ID: <{message_id}>")
    return "".join(f"{line}\r\n" for line in added).encode() + octets
