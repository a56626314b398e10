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
_HIDDEN = re.compile(rb"(?im)^(?:resent-)?bcc[ \t]*:(?:[^\r\n]|\r\n[ \t])*\r\n")
_BLANKS = (b" ", b"\t")
_DATE, _ID, _AUTHOR, _BLIND, _HOP, _SUBJECT = range(6)
_KINDS = {
    b"date": _DATE,
    b"message-id": _ID,
    b"from": _AUTHOR,
    b"sender": _AUTHOR,
    b"reply-to": _AUTHOR,
    b"bcc": _BLIND,
    b"resent-bcc": _BLIND,
    b"received": _HOP,
    b"subject": _SUBJECT,
}


class Submitted(NamedTuple):
    """The content as it is kept, its Message-ID, how many servers it had passed, and its subject."""

    content: bytes
    message_id: str
    hops: int
    subject: str


def take_in(
    content: bytes, start: int, *, outward: Callable[[str], str | None] | None, server: str, id: str, at: float
) -> Submitted:
    """`content` with a Date and a Message-ID, without Bcc, and with the outward addresses of its authors.

    Its own header begins at `start`, behind our own `Received:`, and is whole. `outward` gives an address as it looks
    outside, None to leave them all. What has no header at all becomes the body of a message.
    """
    end = header_end(content, start)
    dated = blind = local = folded = False
    given_id: bytes | None = None
    hops, subject = 0, b""
    for line in content[start:end].split(b"\r\n"):
        name, colon, value = line.partition(b":")
        kind = _KINDS.get(name.rstrip(b" \t").lower())
        if kind is None or not colon:
            folded = folded or line[:1] in _BLANKS
            continue
        if kind == _DATE:
            dated = True
        elif kind == _ID:
            given_id = given_id or value
        elif kind == _AUTHOR:
            local = local or (outward is not None and not _is_outward(value, outward))
        elif kind == _BLIND:
            blind = True
        elif kind == _SUBJECT:
            subject = subject or value
        else:
            hops += 1
    shown_subject = _subject(subject, content, start, end, folded=folded)
    if blind:
        content = content[:start] + _HIDDEN.sub(b"", content[start:end]) + content[end:]
    if local and outward is not None:
        content = complete_addresses(content, start, outward)
    message_id = f"<{id}@{server}>"
    if given_id is not None:
        shown = given_id.strip() or Header(content[start:end]).value(b"Message-ID").encode()
        message_id = shown.decode("utf-8", "replace")[:MAX_MESSAGE_ID]
    if not dated or given_id is None:
        added = b"" if dated else f"Date: {format_date(at)}\r\n".encode()
        if given_id is None:
            added += f"Message-ID: {message_id}\r\n".encode()
        headless = content[start : start + 2] != b"\r\n" and _FIELD_NAME.match(content, start) is None
        content = content[:start] + added + (b"\r\n" if headless else b"") + content[start:]
    return Submitted(content, message_id, hops, shown_subject)


def _subject(first: bytes, content: bytes, start: int, end: int, *, folded: bool) -> str:
    """The subject as people read it; `first` is the first line of its field, `folded` if any field is."""
    text = Header(content[start:end]).value(b"Subject") if folded else first.strip().decode("utf-8", "replace")
    return decode_words(text)[:MAX_SUBJECT]


def _is_outward(value: bytes, outward: Callable[[str], str | None]) -> bool:
    """Whether an address surely is outward already, as nearly all are, each on a line of its own."""
    address = value[value.rfind(b"<") + 1 : -1] if value.endswith(b">") else value.strip()
    text = address.decode("utf-8", "surrogateescape")
    return outward(text) == text
