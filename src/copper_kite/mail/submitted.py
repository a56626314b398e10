"""What a submission's header gets on its way in: what is missing, and none of what must not leave (RFC 6409 8)."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import NamedTuple

from copper_kite.mail.header import MAX_MESSAGE_ID, MAX_SUBJECT, Header, decode_words, header_end
from copper_kite.mail.readdress import complete_addresses
from copper_kite.mail.received import format_date

__all__ = ["Submitted", "take_in"]

_FIELD_NAME = re.compile(rb"[!-9;-~]+[ \t]*:")
_SPACED_NAME = re.compile(rb"\r\n([!-9;-~]+)[ \t]+:")  # as old programs write it (RFC 5322 4.5)
_HIDDEN = re.compile(rb"(?im)^(?:resent-)?bcc[ \t]*:(?:[^\r\n]|\r\n[ \t])*\r\n")
_BLANKS = (b" ", b"\t")
_AUTHORS = ("\r\nfrom:", "\r\nsender:", "\r\nreply-to:")


class Submitted(NamedTuple):
    """The content as it is kept, where its own header begins in it, its Message-ID, how many servers it had passed, and
    its subject."""

    content: bytes
    start: int
    message_id: str
    hops: int
    subject: str


def take_in(
    content: bytes, field: bytes, *, outward: Callable[[str], str | None] | None, server: str, id: str, at: float
) -> Submitted:
    """`content` behind our `field`, with a Date and a Message-ID, without Bcc, and its authors as they look outside.

    Its header must be whole. `outward` gives an address as it looks outside, None to leave them all. What has no header
    at all becomes the body of a message.
    """
    header = content[: header_end(content)]
    lines = b"\r\n" + header
    names = lines.decode("latin-1").lower()  # a character for each octet: text is searched faster than octets are
    if " :" in names or "\t:" in names:
        lines = _SPACED_NAME.sub(rb"\r\n\1:", lines)
        names = lines.decode("latin-1").lower()
    subject = _value(lines, names, "\r\nsubject:")
    given_id = _value(lines, names, "\r\nmessage-id:")
    if "bcc:" in names:
        content = _HIDDEN.sub(b"", header) + content[len(header) :]
    if outward is not None and not all(_is_outward(_value(lines, names, name), outward) for name in _AUTHORS):
        content = complete_addresses(content, outward)
    added = b""
    if "\r\ndate:" not in names:
        added = f"Date: {format_date(at)}\r\n".encode()
    if given_id is None:
        given_id = f"<{id}@{server}>".encode()
        added += b"Message-ID: %b\r\n" % given_id
    if added and content[:2] != b"\r\n" and _FIELD_NAME.match(content) is None:
        added += b"\r\n"
    return tuple.__new__(  # what the constructor comes to, without the detour
        Submitted,
        (
            b"".join((field, added, content)),
            len(field),
            given_id.decode("utf-8", "replace")[:MAX_MESSAGE_ID],
            names.count("\r\nreceived:"),
            decode_words(subject.decode("utf-8", "replace"))[:MAX_SUBJECT] if subject else "",
        ),
    )


def _value(lines: bytes, names: str, name: str) -> bytes | None:
    """What the first field of a name says, unfolded; None where there is none.

    `lines` is the header behind a line end, without blanks before its colons, and `names` the same as lower-case text;
    `name` stands there between a line end and a colon.
    """
    at = names.find(name)
    if at < 0:
        return None
    begin = at + len(name)
    end = lines.find(b"\r\n", begin)
    if lines.startswith(_BLANKS, end + 2):
        return Header(lines[2:]).value(name[2:-1].encode()).encode()
    return lines[begin:end].strip()


def _is_outward(value: bytes | None, outward: Callable[[str], str | None]) -> bool:
    """Whether there is no address, or surely one that is outward already, as nearly all are."""
    if value is None:
        return True
    address = value[value.rfind(b"<") + 1 : -1] if value.endswith(b">") else value
    text = address.decode("utf-8", "surrogateescape")
    return outward(text) == text
