"""A message with octets over 127 made fit for a next hop that takes 7 bits alone (RFC 6152 3, RFC 2045 6).

Each part whose body needs it is encoded, text as quoted-printable, all else as base64; every other octet stays.
"""

from __future__ import annotations

import base64
import quopri
import re
from email.message import Message

from copper_kite.mail.header import header_end

__all__ = ["to_seven_bits"]

MAX_DEPTH = 20  # parts within parts
LINE = 76  # characters of an encoded line, RFC 2045 6.7, 6.8
_ENCODING = re.compile(rb"(?im)^content-transfer-encoding[ \t]*:(?:[^\r\n]|\r\n[ \t])*\r\n")


def to_seven_bits(content: bytes) -> bytes | None:
    """The message in ASCII, with CR LFs; None where that cannot be done right.

    So it is with octets over 127 in a header (that needs SMTPUTF8), within a signed part, which any change breaks, and
    where the parts cannot be told apart.
    """
    return _part(content, 0)


def _part(part: bytes, depth: int) -> bytes | None:
    if part.isascii():
        return part
    end = header_end(part)
    header, body = part[:end], part[end + 2 :]
    if not header.isascii() or depth > MAX_DEPTH:
        return None
    kind = _content_type(header)
    main, sub = kind.get_content_maintype(), kind.get_content_subtype()
    if main == "multipart":
        return None if sub in ("signed", "encrypted") else _multipart(header, body, kind.get_boundary(), depth)
    if kind.get_content_type() in ("message/rfc822", "message/global"):
        inner = _part(body, depth + 1)
        return None if inner is None else _seven(header) + b"\r\n" + inner
    if main == "message":
        return None
    if main == "text":
        return _encoded(header, b"quoted-printable", _quoted_printable(body))
    lines = base64.b64encode(body)
    wrapped = b"".join(lines[start : start + LINE] + b"\r\n" for start in range(0, len(lines), LINE))
    return _encoded(header, b"base64", wrapped)


def _content_type(header: bytes) -> Message:
    """The type of a part, as the standard library reads it; text/plain where nothing says otherwise."""
    found = Message()
    match = re.search(rb"(?im)^content-type[ \t]*:((?:[^\r\n]|\r\n[ \t])*)", header)
    if match is not None:
        found["Content-Type"] = re.sub(rb"\r\n(?=[ \t])", b"", match[1]).strip().decode("ascii")
    return found


def _multipart(header: bytes, body: bytes, boundary: str | None, depth: int) -> bytes | None:
    """Each part by itself; what stands before the first and behind the last is nobody's, and must be ASCII."""
    if not boundary:
        return None
    delimiter = re.compile(
        rb"(?:\A|\r\n)--" + re.escape(boundary.encode("ascii", "replace")) + rb"(--)?[ \t]*(?:\r\n|\Z)"
    )
    found = list(delimiter.finditer(body))
    if not found or found[-1][1] is None:
        return None
    out, place = [], 0
    for number, match in enumerate(found):
        between = body[place : match.start()]
        converted = _part(between, depth + 1) if number else between
        if converted is None or not converted.isascii():
            return None
        out += [converted, match[0]]
        place = match.end()
        if match[1] is not None:
            break
    epilogue = body[place:]
    return _seven(header) + b"\r\n" + b"".join(out) + epilogue if epilogue.isascii() else None


def _seven(header: bytes) -> bytes:
    """The header of a part whose inner parts are 7-bit now."""
    return _ENCODING.sub(b"Content-Transfer-Encoding: 7bit\r\n", header, count=1)


def _encoded(header: bytes, encoding: bytes, body: bytes) -> bytes | None:
    line = b"Content-Transfer-Encoding: " + encoding + b"\r\n"
    match = _ENCODING.search(header)
    if match is None:
        mime = b"" if re.search(rb"(?im)^(mime-version|content-type)[ \t]*:", header) else b"MIME-Version: 1.0\r\n"
        return header + mime + line + b"\r\n" + body
    said = match[0].partition(b":")[2].strip().lower()
    if said not in (b"8bit", b"binary", b"7bit"):
        return None  # it says that it is encoded, and is not
    return header[: match.start()] + line + header[match.end() :] + b"\r\n" + body


def _quoted_printable(body: bytes) -> bytes:
    """Line by line, so that line ends stay what they are (RFC 2045 6.7)."""
    text = quopri.encodestring(body.replace(b"\r\n", b"\n"), quotetabs=False)
    return text.replace(b"\n", b"\r\n")
