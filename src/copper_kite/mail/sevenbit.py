"""A message made fit for its way: in 7 bits where a next hop takes no more (RFC 6152 3), in lines that SMTP carries.

Each part whose body needs it is encoded, text as quoted-printable or base64, whichever is shorter, all else as base64
(RFC 2045 6); every other octet stays. What holds other parts (`multipart`, `message/rfc822`) is never encoded itself,
but its leaves are (RFC 2046 5.2.1). What a part does not say of itself, and its encoding needs, is added.
"""

from __future__ import annotations

import base64
import binascii
import quopri
import re
from typing import NamedTuple

from copper_kite.mail.content_type import ContentType, parse_content_type
from copper_kite.mail.encoded import ascii_header, charset_of
from copper_kite.mail.header import Header, header_end

__all__ = ["to_lines", "to_seven_bits"]

MAX_DEPTH = 20  # parts within parts
LINE = 76  # characters of an encoded line, RFC 2045 6.7, 6.8
FOLDED = 900  # octets of a header line that is folded; one that has no place for it may have 998
_ENCODING = re.compile(rb"(?im)^content-transfer-encoding[ \t]*:(?:[^\r\n]++|\r\n[ \t])*+\r\n")
_TYPE = re.compile(rb"(?im)^content-type[ \t]*:(?:[^\r\n]++|\r\n[ \t])*+\r\n")
_IDENTITY = (b"", b"7bit", b"8bit", b"binary")
_HIGH = re.compile(rb"[\x80-\xff]")
_NOT_LINES = re.compile(rb"\x00|[^\r\n]{999}")  # NUL, or more than a line may have (RFC 5322 2.1.1)


class _Aim(NamedTuple):
    """The needs of the next hop: ASCII in headers, ASCII in bodies, lines of at most 998 octets without NUL."""

    headers: bool
    bodies: bool
    lines: bool

    def needs(self, part: bytes) -> bool:
        """Whether anything of it is not so yet; with `headers` alone, bodies are looked through for inner headers."""
        return ((self.headers or self.bodies) and not part.isascii()) or (
            self.lines and _NOT_LINES.search(part) is not None
        )

    def is_leaf_to_be_encoded(self, body: bytes) -> bool:
        """The same for the body of a part without parts."""
        return (self.bodies and not body.isascii()) or (self.lines and _NOT_LINES.search(body) is not None)


def to_seven_bits(content: bytes, *, bodies: bool = True) -> bytes | None:
    """The message in ASCII, with CR LFs; None where that cannot be done right. Without `bodies`, only its headers.

    So it is with an address or an id over 127 in a header (that needs SMTPUTF8), within a signed or encrypted part,
    which any change breaks, and where the parts cannot be told apart.
    """
    return _part(content, 0, "text/plain", _Aim(headers=True, bodies=bodies, lines=False), top=True)


def to_lines(content: bytes) -> bytes | None:
    """The message in lines of at most 998 octets, without NUL; None where that cannot be done right.

    So it is within a signed or encrypted part, or a message within it, and where a header line has no blank to be
    folded at.
    """
    return _part(content, 0, "text/plain", _Aim(headers=False, bodies=False, lines=True), top=True)


def _part(part: bytes, depth: int, default: str, aim: _Aim, *, top: bool = False) -> bytes | None:
    """One part, whose type is `default` where it says none; the `top` one is a message, and no part of one."""
    if not aim.needs(part):
        return part
    end = header_end(part)
    header, body = _header(part[:end], aim), part[end + 2 :]
    if header is None or depth > MAX_DEPTH:
        return None
    if not aim.needs(body):
        return header + part[end:]
    if (aim.bodies or aim.lines) and top and b"MIME-Version" not in Header(header):
        header += b"MIME-Version: 1.0\r\n"
    kind = parse_content_type(Header(header).value(b"Content-Type"), default)
    if kind.main == "multipart":
        return _multipart(header, body, kind, depth, aim)
    if kind.name == "message/rfc822":
        inner = None if aim.lines else _part(body, depth + 1, "text/plain", aim, top=True)
        return None if inner is None else (_seven(header) if aim.bodies else header) + b"\r\n" + inner
    if not aim.is_leaf_to_be_encoded(body):
        return header + part[end:]
    if kind.main == "message" and not kind.sub.startswith("global"):  # RFC 6532 3.7 lets those be encoded
        return None
    return _leaf(header, body, kind)


def _header(header: bytes, aim: _Aim) -> bytes | None:
    made = ascii_header(header) if aim.headers else header
    return _folded(made) if made is not None and aim.lines else made


def _folded(header: bytes) -> bytes | None:
    """Its fields in lines of at most 998 octets: folded at blanks, where there are such (RFC 5322 2.2.3)."""
    header = header.replace(b"\0", b"")
    if _NOT_LINES.search(header) is None:
        return header
    lines = []
    for line in header.split(b"\r\n"):
        while len(line) > 998:
            at = line.rfind(b" ", 1, FOLDED)
            if not line[:at].strip() or at <= line.find(b":"):  # no blank, or what would be a line of blanks
                return None
            lines.append(line[:at])
            line = line[at:]
        lines.append(line)
    return b"\r\n".join(lines)


def _multipart(header: bytes, body: bytes, kind: ContentType, depth: int, aim: _Aim) -> bytes | None:
    """Convert each part by itself; text before the first and after the last has no meaning (RFC 2046 5.1.1)."""
    boundary = kind.parameters.get("boundary")
    if not boundary or kind.sub in ("signed", "encrypted"):
        return None
    delimiter = re.compile(
        rb"(?:\A|\r\n)--" + re.escape(boundary.encode("ascii", "replace")) + rb"(--)?[ \t]*(?:\r\n|\Z)"
    )
    results = list(delimiter.finditer(body))
    if not results or results[-1][1] is None:
        return None
    default = "message/rfc822" if kind.sub == "digest" else "text/plain"  # RFC 2046 5.1.5
    out, place = [], 0
    for number, match in enumerate(results):
        between = body[place : match.start()]
        converted = _part(between, depth + 1, default, aim) if number else _beside(between, aim)
        if converted is None:
            return None
        out += [converted, match[0]]
        place = match.end()
        if match[1] is not None:
            break
    return (_seven(header) if aim.bodies else header) + b"\r\n" + b"".join(out) + _beside(body[place:], aim)


def _beside(text: bytes, aim: _Aim) -> bytes:
    """The text around the parts, which has no meaning."""
    if aim.lines:
        return b"" if _NOT_LINES.search(text) is not None else text
    return _HIGH.sub(b"?", text)


def _seven(header: bytes) -> bytes:
    """The header of a part whose inner parts are 7-bit now."""
    return _ENCODING.sub(b"Content-Transfer-Encoding: 7bit\r\n", header, count=1)


def _leaf(header: bytes, body: bytes, kind: ContentType) -> bytes | None:
    """A part without parts in an encoding; text that names no charset gets one (RFC 2045 5.2, RFC 1428)."""
    encoding = Header(header).value(b"Content-Transfer-Encoding").strip().lower().encode()
    if encoding not in _IDENTITY and not body.isascii():
        return None  # it says that it is encoded, and is not
    if encoding == b"base64":
        return _encoded(header, b"base64", _base64(binascii.a2b_base64(body)))
    if encoding == b"quoted-printable":
        return _encoded(header, encoding, _quoted_printable(quopri.decodestring(body)))
    if encoding not in _IDENTITY:
        return None
    made = _base64(body)
    if kind.main != "text":
        return _encoded(header, b"base64", made)
    if not body.isascii() and "charset" not in kind.parameters:
        header = _with_charset(header, kind, charset_of(body))
    readable = _quoted_printable(body)
    if len(readable) <= len(made):
        return _encoded(header, b"quoted-printable", readable)
    return _encoded(header, b"base64", made)


def _with_charset(header: bytes, kind: ContentType, charset: str) -> bytes:
    named = _TYPE.search(header)
    if named is None:
        return header + f"Content-Type: {kind.name}; charset={charset}\r\n".encode()
    line = named[0].rstrip(b"\r\n; \t") + f";\r\n charset={charset}\r\n".encode()
    return header[: named.start()] + line + header[named.end() :]


def _encoded(header: bytes, encoding: bytes, body: bytes) -> bytes:
    return _ENCODING.sub(b"", header) + b"Content-Transfer-Encoding: " + encoding + b"\r\n\r\n" + body


def _base64(octets: bytes) -> bytes:
    lines = base64.b64encode(octets)
    return b"".join(lines[start : start + LINE] + b"\r\n" for start in range(0, len(lines), LINE))


def _quoted_printable(body: bytes) -> bytes:
    """Line by line, so that line ends stay what they are (RFC 2045 6.7), and a CR or LF on its own, too."""
    lines = (binascii.b2a_qp(line, istext=False).replace(b"=\n", b"=\r\n") for line in body.split(b"\r\n"))
    return b"\r\n".join(lines)
