"""Changes to a submission's header: add missing fields, drop those that must not leave (RFC 6409 8)."""

from __future__ import annotations

import re
from typing import NamedTuple

from copper_kite.mail.header import MAX_MESSAGE_ID, MAX_SUBJECT, Header, decode_words
from copper_kite.mail.readdress import Complete, complete_addresses
from copper_kite.mail.received import format_date

__all__ = ["Completion", "Submitted", "header_length", "take_in"]

_FIELD_NAME = re.compile(rb"[!-9;-~]+[ \t]*:")
_SPACED_NAME = re.compile(rb"\r\n([!-9;-~]+)[ \t]+:")  # as old programs write it (RFC 5322 4.5)
_HIDDEN = re.compile(rb"(?im)^(?:resent-)?bcc[ \t]*:(?:[^\r\n]++|\r\n[ \t])*+\r\n")
_BLANKS = (b" ", b"\t")
_ONCE = ("\r\nfrom:", "\r\ndate:", "\r\nmessage-id:")
_DATE = re.compile(r"\r\ndate:\s*(?:[a-z]{3}\s*,)?\s*\d{1,2}\s+[a-z]{3}\s+\d{2,4}\s+\d{1,2}:\d\d")
_RARER = ("\r\nsender:", "\r\nreply-to:", "\r\ncc:")


class Submitted(NamedTuple):
    """The content as it is kept, where its own header begins in it, its Message-ID, how many servers it had passed, its
    subject, and what is odd about its header, in words, though it is passed on as it is."""

    content: bytes
    start: int
    message_id: str
    hops: int
    subject: str
    remarks: str = ""


class Completion(NamedTuple):
    """The functions that rewrite a header's local addresses: those of authors, and those of recipients."""

    sender: Complete
    recipient: Complete


def header_length(content: bytes) -> int | None:
    """The octets of the header that `content` begins with, 0 where it has none; None where its end is not there yet."""
    if content[:2] == b"\r\n" or (content and _FIELD_NAME.match(content) is None):
        return 0
    end = content.find(b"\r\n\r\n")
    return None if end < 0 else end + 2


def take_in(
    content: bytes,
    field: bytes,
    *,
    completion: Completion | None,
    author: str,
    server: str,
    id: str,
    at: float,
) -> Submitted:
    """`content` after our `field`, with a Date, a Message-ID and a From, without Bcc, its addresses completed.

    Its header must be whole. `completion` None leaves all addresses; `author` is added where there is no From. What
    has no header at all becomes the body of a message.
    """
    end = header_length(content)
    header = content if end is None else content[:end]
    lines = b"\r\n" + header
    names = lines.decode("latin-1").lower()  # a character for each octet: text is searched faster than octets are
    if " :" in names or "\t:" in names:
        lines = _SPACED_NAME.sub(rb"\r\n\1:", lines)
        names = lines.decode("latin-1").lower()
    subject = _value(lines, names, "\r\nsubject:")
    given_id = _value(lines, names, "\r\nmessage-id:")
    hops = names.count("\r\nreceived:")
    if "bcc:" in names:
        content = _HIDDEN.sub(b"", header) + content[len(header) :]
    if completion is not None and not _all_outward(lines, names, completion):
        content = complete_addresses(content, *completion)
    added = b""
    froms, dates, ids = (names.count(name) for name in _ONCE)
    odd = froms > 1 or dates > 1 or ids > 1 or (dates and _DATE.match(names, names.find("\r\ndate:")) is None)
    if not dates:
        added = f"Date: {format_date(at)}\r\n".encode()
    if given_id is None:
        given_id = f"<{id}@{server}>".encode()
        added += b"Message-ID: %b\r\n" % given_id
    if not froms:
        added += f"From: <{author}>\r\n".encode()
    if added and not header and content[:2] != b"\r\n":
        added += b"\r\n"
    return Submitted(
        b"".join((field, added, content)),
        len(field),
        given_id.decode("utf-8", "replace")[:MAX_MESSAGE_ID],
        hops,
        decode_words(subject.decode("utf-8", "replace"))[:MAX_SUBJECT] if subject else "",
        _remarks(froms, dates, ids) if odd else "",
    )


def _remarks(froms: int, dates: int, ids: int) -> str:
    """The remark on fields that violate RFC 5322 3.6."""
    counts = ((froms, "From"), (dates, "Date"), (ids, "Message-ID"))
    several = [f"{count} {name} fields" for count, name in counts if count > 1]
    return "the header has " + " and ".join(several or ["a Date that cannot be read"])


def _value(lines: bytes, names: str, name: str) -> bytes | None:
    """The first field of a name, unfolded; None where there is none.

    `lines` is the header after a line end, without blanks before its colons, and `names` the same as lower-case text;
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


def _all_outward(lines: bytes, names: str, completion: Completion) -> bool:
    """Whether no address of the header has to be completed, as far as that can be seen at once."""
    if "\r\nresent-" in names:
        return False
    sender, recipient = completion
    for name, outward in (("\r\nfrom:", sender), ("\r\nto:", recipient)):
        value = _value(lines, names, name)
        if value is not None and not _is_outward(value, outward):
            return False
    return all(name not in names for name in _RARER) or all(
        (value := _value(lines, names, name)) is None or _is_outward(value, recipient if name == "\r\ncc:" else sender)
        for name in _RARER
    )


def _is_outward(value: bytes, outward: Complete) -> bool:
    """Whether this is one address, and surely one that is outward already, as nearly all are."""
    address = value[value.rfind(b"<") + 1 : -1] if value.endswith(b">") else value
    text = address.decode("utf-8", "surrogateescape")
    return b"," not in value and b"(" not in value and outward(text) == text
