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
_AUTHORS = (b"From", b"Sender", b"Reply-To")


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
    header = content[start : header_end(content, start)]
    names = b"\r\n" + header.lower()
    if (b" :" in names or b"\t:" in names) and _SPACED_NAME.search(names) is not None:
        names = _SPACED_NAME.sub(rb"\r\n\1:", names)
    dated = b"\r\ndate:" in names
    hops = names.count(b"\r\nreceived:")
    subject = (_value(header, names, b"Subject") or b"").decode("utf-8", "replace")
    given_id = _value(header, names, b"Message-ID")
    if b"bcc:" in names:
        content = content[:start] + _HIDDEN.sub(b"", header) + content[start + len(header) :]
    if outward is not None and not all(_is_outward(_value(header, names, name), outward) for name in _AUTHORS):
        content = complete_addresses(content, start, outward)
    message_id = f"<{id}@{server}>" if given_id is None else given_id.decode("utf-8", "replace")[:MAX_MESSAGE_ID]
    if not dated or given_id is None:
        added = b"" if dated else f"Date: {format_date(at)}\r\n".encode()
        if given_id is None:
            added += f"Message-ID: {message_id}\r\n".encode()
        headless = content[start : start + 2] != b"\r\n" and _FIELD_NAME.match(content, start) is None
        content = content[:start] + added + (b"\r\n" if headless else b"") + content[start:]
    return Submitted(content, message_id, hops, decode_words(subject)[:MAX_SUBJECT])


def _value(header: bytes, names: bytes, name: bytes) -> bytes | None:
    """What the first field of that `name` says, unfolded; None where there is none.

    `names` is the header behind a line end, in lower case and without blanks before colons.
    """
    at = names.find(b"\r\n%b:" % name.lower())
    if at < 0:
        return None
    if len(names) == len(header) + 2:  # so what stands there stands in the header two octets before it
        begin = at + len(name) + 1
        end = header.find(b"\r\n", begin)
        if header[end + 2 : end + 3] not in _BLANKS:
            return header[begin:end].strip()
    return Header(header).value(name).encode()


def _is_outward(value: bytes | None, outward: Callable[[str], str | None]) -> bool:
    """Whether there is no address, or surely one that is outward already, as nearly all are."""
    if value is None:
        return True
    address = value[value.rfind(b"<") + 1 : -1] if value.endswith(b">") else value
    text = address.decode("utf-8", "surrogateescape")
    return outward(text) == text
