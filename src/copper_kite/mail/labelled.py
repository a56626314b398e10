"""A submission with octets over 127 that does not say what they are: said for it (RFC 6409 8, RFC 1428)."""

from __future__ import annotations

from codecs import getincrementaldecoder

from copper_kite.mail.encoded import ascii_header
from copper_kite.mail.header import Header
from copper_kite.mail.mend import without_mbox_line
from copper_kite.mail.submitted import header_length

__all__ = ["labelled", "mended"]

_MIME = (b"MIME-Version", b"Content-Type", b"Content-Transfer-Encoding")


def labelled(content: bytes, *, utf8: bool) -> bytes:
    """`content`, all of a message or its beginning with the whole header, in which text is labelled as UTF-8, where it
    is that, if nothing in the header says otherwise; header fields over 127 are encoded where their grammar allows,
    unless the message is for servers that take them as they are (`utf8`, RFC 6531)."""
    end = header_length(content) or 0
    header, rest = content[:end], content[end:]
    made = None if utf8 else ascii_header(header)
    if made is None:
        made = header
    if not rest.isascii() and not any(name in Header(made) for name in _MIME):
        made += f"MIME-Version: 1.0\r\nContent-Type: text/plain; charset={_charset(rest)}\r\n".encode()
        made += b"Content-Transfer-Encoding: 8bit\r\n"
        if not end and not rest.startswith(b"\r\n"):
            made += b"\r\n"
    return made + rest


def _charset(octets: bytes) -> str:
    """As `charset_of`, where the last character may not be whole."""
    try:
        getincrementaldecoder("utf-8")().decode(octets)
    except UnicodeDecodeError:
        return "unknown-8bit"
    return "utf-8"


def mended(octets: bytes, *, ascii: bool, utf8: bool) -> tuple[bytes, str]:
    """A message, or its beginning, without the line with which it stood in a mailbox, and `labelled`; and in words what
    was done."""
    done = []
    made = without_mbox_line(octets)
    if made is not octets:
        done.append("a mailbox line before the header was dropped")
    if not ascii and (text := labelled(made, utf8=utf8)) != made:
        made = text
        done.append("octets over 127 were labelled, or encoded in the header")
    return made, "; ".join(done)
