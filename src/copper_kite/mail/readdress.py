"""Addresses in a header made those that the outside may see (RFC 5322 3.6.2, 3.6.3; RFC 6409 8)."""

from __future__ import annotations

import re
from collections.abc import Callable

from copper_kite.mail.addresses import Mailbox, mailboxes, replace_addresses
from copper_kite.mail.header import Header, header_end

__all__ = ["Complete", "author_domain", "authors", "complete_addresses", "leave_under"]

Complete = Callable[[str], str | None]  # an address as it looks outside, None where it has no such form

_FIELD = re.compile(
    rb"(?im)^((?:resent-)?(?:from|sender|reply-to|to|cc))[ \t]*:((?:[^\r\n]++|\r\n[ \t])*+)\r\n"
)  # the fields with addresses that others see
_TO = (b"to", b"cc", b"resent-to", b"resent-cc")
_ATOM = re.compile(r"[\w!#$%&'*+/=?^`{|}~-]+")


def authors(header: bytes) -> list[str]:
    """The addresses in all From and Sender fields of `header`; what stands there and is none, as it is."""
    values = [_text(field[2]) for field in _FIELD.finditer(header) if field[1].lower() in (b"from", b"sender")]
    return [mailbox.address for value in values for mailbox in mailboxes(value)]


def author_domain(header: bytes) -> str:
    """The domain of the first address in From, in lower case; empty where it has none."""
    for mailbox in mailboxes(Header(header).value(b"From")):
        if "@" in mailbox.address:
            return mailbox.address.rpartition("@")[2].lower()
    return ""


def complete_addresses(content: bytes, sender: Complete, recipient: Complete) -> bytes:
    """`content` with the local addresses of its header as they look outside, `sender` for those it is from."""
    end = header_end(content)

    def change(field: re.Match[bytes]) -> bytes:
        value = field[2].decode("utf-8", "surrogateescape")
        made = replace_addresses(value, recipient if field[1].lower() in _TO else sender)
        return field[0] if made == value else field[1] + b":" + made.encode("utf-8", "surrogateescape") + b"\r\n"

    changed = _FIELD.sub(change, content[:end])
    return content if changed == content[:end] else changed + content[end:]


def leave_under(content: bytes, sender: str, keeps: Callable[[str], bool]) -> bytes:
    """`content` from `sender`, unless its From is one that it `keeps`.

    Who it really is from stays as its name, and answers go there: by Reply-To, if there is none already. A Sender that
    may not stay goes.
    """
    end = header_end(content)
    header = content[:end]
    written = Header(header).value(b"From")
    given = mailboxes(written)
    if not given or all(keeps(mailbox.address) for mailbox in given):
        return content
    answers = "" if b"Reply-To" in Header(header) else f"Reply-To: {written}\r\n"

    def change(field: re.Match[bytes]) -> bytes:
        kind = field[1].lower()
        if kind == b"from":
            return f"From: {_name_of(given)} <{sender}>\r\n{answers}".encode()
        if kind == b"sender" and not all(keeps(mailbox.address) for mailbox in mailboxes(_text(field[2]))):
            return b""
        return field[0]

    return _FIELD.sub(change, header) + content[end:]


def _text(value: bytes) -> str:
    return value.replace(b"\r\n", b"").decode("utf-8", "surrogateescape").strip()


def _name_of(given: list[Mailbox]) -> str:
    """The display name as it was written, where there is one author with one; else the address's local part."""
    if len(given) == 1 and given[0].name:
        return given[0].name
    address = given[0].address
    local = address.rpartition("@")[0] or address
    return local if _ATOM.fullmatch(local) else '"' + re.sub(r'[\\"]', "", local) + '"'
