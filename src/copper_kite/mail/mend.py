"""Completing what scripts submit into a message: line ends, and the fields that RFC 5322 3.6 demands."""

from __future__ import annotations

import re

from copper_kite.mail.header import scan_header
from copper_kite.mail.received import format_date
from copper_kite.smtp import local_line_ends

__all__ = ["mend_message", "normalise_line_ends", "without_mbox_line"]

_ATOMS = re.compile(r"[A-Za-z0-9!#$%&'*+/=?^_`{|}~ -]+")
_SPECIAL = re.compile(r'[\\"]')
_MBOX_LINE = re.compile(rb"From [^\r\n]*\r\n[!-9;-~]+[ \t]*:")  # and a header after it
_FIELD = re.compile(rb"[!-9;-~]+[ \t]*:")


def normalise_line_ends(octets: bytes) -> bytes:
    """Every line end as CR LF, with one at the end (`local_line_ends`)."""
    octets = local_line_ends(octets)
    return octets if not octets or octets.endswith(b"\r\n") else octets + b"\r\n"


def _quoted(name: str) -> str:
    """A name before an address, as RFC 5322 3.4 and RFC 2047 5 have it; nothing for none."""
    if not name:
        return ""
    if not (name.isascii() and name.isprintable()):
        import base64  # here alone, for most never need it

        return f"=?utf-8?b?{base64.b64encode(name.encode('utf-8', 'replace')).decode()}?= "
    return f"{name} " if _ATOMS.fullmatch(name) else '"' + _SPECIAL.sub(r"\\\g<0>", name) + '" '


def without_mbox_line(octets: bytes) -> bytes:
    """Without the `From ` line with which a message stands in a mailbox file (RFC 4155)."""
    return octets.partition(b"\r\n")[2] if _MBOX_LINE.match(octets) else octets


def mend_message(octets: bytes, *, sender: str, message_id: str, at: float, full_name: str = "") -> bytes:
    """`octets` with CR LFs, a header of its own, and From, Date and Message-ID where they were missing.

    Text without a header becomes the body of a message. What is there stays as it is.
    """
    octets = without_mbox_line(normalise_line_ends(octets))
    if not _FIELD.match(octets) and not octets.startswith(b"\r\n"):
        octets = b"\r\n" + octets
    header = scan_header(octets)
    if len(header.octets) == len(octets):
        octets += b"\r\n"
    needed = {
        b"from": f"From: {_quoted(full_name)}<{sender}>\r\n",
        b"date": f"Date: {format_date(at)}\r\n",
        b"message-id": f"Message-ID: <{message_id}>\r\n",
    }
    return "".join(line for name, line in needed.items() if name not in header).encode() + octets
