"""A message with octets over 127 made fit for a next hop that takes 7 bits alone (RFC 6152 3, RFC 2045 6).

Each part whose body needs it is encoded, text as quoted-printable, all else as base64; every other octet stays. What
holds other parts (`multipart`, `message/rfc822`) is never encoded itself, but its leaves are (RFC 2046 5.2.1). What a
part does not say of itself, and its encoding needs, is added.
"""

from __future__ import annotations

import base64
import quopri
import re

from copper_kite.mail.content_type import ContentType, parse_content_type
from copper_kite.mail.encoded import ascii_header, charset_of
from copper_kite.mail.header import Header, header_end

__all__ = ["to_seven_bits"]

MAX_DEPTH = 20  # parts within parts
LINE = 76  # characters of an encoded line, RFC 2045 6.7, 6.8
_ENCODING = re.compile(rb"(?im)^content-transfer-encoding[ \t]*:(?:[^\r\n]++|\r\n[ \t])*+\r\n")
_TYPE = re.compile(rb"(?im)^content-type[ \t]*:(?:[^\r\n]++|\r\n[ \t])*+\r\n")
_IDENTITY = (b"", b"7bit", b"8bit", b"binary")
_HIGH = re.compile(rb"[\x80-\xff]")


def to_seven_bits(content: bytes, *, bodies: bool = True) -> bytes | None:
    """The message in ASCII, with CR LFs; None where that cannot be done right. Without `bodies`, only its headers.

    So it is with an address or an id over 127 in a header (that needs SMTPUTF8), within a signed or encrypted part,
    which any change breaks, and where the parts cannot be told apart.
    """
    return _part(content, 0, "text/plain", bodies, top=True)


def _part(part: bytes, depth: int, default: str, bodies: bool, *, top: bool = False) -> bytes | None:
    """One part, whose type is `default` where it says none; the `top` one is a message, and no part of one."""
    if part.isascii():
        return part
    end = header_end(part)
    header, body = ascii_header(part[:end]), part[end + 2 :]
    if header is None or depth > MAX_DEPTH:
        return None
    if body.isascii():
        return header + part[end:]
    if bodies and top and b"MIME-Version" not in Header(header):
        header += b"MIME-Version: 1.0\r\n"
    kind = parse_content_type(Header(header).value(b"Content-Type"), default)
    if kind.main == "multipart":
        return _multipart(header, body, kind, depth, bodies)
    if kind.name == "message/rfc822":
        inner = _part(body, depth + 1, "text/plain", bodies, top=True)
        return None if inner is None else (_seven(header) if bodies else header) + b"\r\n" + inner
    if not bodies:
        return header + part[end:]
    if kind.main == "message" and not kind.sub.startswith("global"):  # RFC 6532 3.7 lets those be encoded
        return None
    if kind.main == "text":
        return _encoded(header, kind, b"quoted-printable", _quoted_printable(body), charset_of(body))
    lines = base64.b64encode(body)
    wrapped = b"".join(lines[start : start + LINE] + b"\r\n" for start in range(0, len(lines), LINE))
    return _encoded(header, kind, b"base64", wrapped, "")


def _multipart(header: bytes, body: bytes, kind: ContentType, depth: int, bodies: bool) -> bytes | None:
    """Each part by itself; what stands before the first and behind the last means nothing (RFC 2046 5.1.1)."""
    boundary = kind.parameters.get("boundary")
    if not boundary or kind.sub in ("signed", "encrypted"):
        return None
    delimiter = re.compile(
        rb"(?:\A|\r\n)--" + re.escape(boundary.encode("ascii", "replace")) + rb"(--)?[ \t]*(?:\r\n|\Z)"
    )
    found = list(delimiter.finditer(body))
    if not found or found[-1][1] is None:
        return None
    default = "message/rfc822" if kind.sub == "digest" else "text/plain"  # RFC 2046 5.1.5
    out, place = [], 0
    for number, match in enumerate(found):
        between = body[place : match.start()]
        converted = _part(between, depth + 1, default, bodies) if number else _HIGH.sub(b"?", between)
        if converted is None:
            return None
        out += [converted, match[0]]
        place = match.end()
        if match[1] is not None:
            break
    return (_seven(header) if bodies else header) + b"\r\n" + b"".join(out) + _HIGH.sub(b"?", body[place:])


def _seven(header: bytes) -> bytes:
    """The header of a part whose inner parts are 7-bit now."""
    return _ENCODING.sub(b"Content-Transfer-Encoding: 7bit\r\n", header, count=1)


def _encoded(header: bytes, kind: ContentType, encoding: bytes, body: bytes, charset: str) -> bytes | None:
    """A leaf with its new encoding; text that names no `charset` gets this one (RFC 2045 5.2, RFC 1428)."""
    if Header(header).value(b"Content-Transfer-Encoding").lower().encode() not in _IDENTITY:
        return None  # it says that it is encoded, and is not
    header = _ENCODING.sub(b"", header)
    if charset and "charset" not in kind.parameters:
        named = _TYPE.search(header)
        if named is None:
            header += f"Content-Type: {kind.name}; charset={charset}\r\n".encode()
        else:
            line = named[0].rstrip(b"\r\n; \t") + f";\r\n charset={charset}\r\n".encode()
            header = header[: named.start()] + line + header[named.end() :]
    return header + b"Content-Transfer-Encoding: " + encoding + b"\r\n\r\n" + body


def _quoted_printable(body: bytes) -> bytes:
    """Line by line, so that line ends stay what they are (RFC 2045 6.7)."""
    text = quopri.encodestring(body.replace(b"\r\n", b"\n"), quotetabs=False)
    return text.replace(b"\n", b"\r\n")
