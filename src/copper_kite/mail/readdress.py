"""Addresses in a header made those that the outside may see: From, Sender and Reply-To (RFC 5322 3.6.2)."""

from __future__ import annotations

import re
from collections.abc import Callable
from email.utils import getaddresses

from copper_kite.mail.header import Header, header_end

__all__ = ["authors", "complete_addresses", "leave_under"]

_FIELD = re.compile(rb"(?im)^(from|sender|reply-to)[ \t]*:((?:[^\r\n]|\r\n[ \t])*)\r\n")
_ONE = re.compile(r'((?:[^"<>@,;:()]|"(?:[^"\\]|\\.)*")*)<([^<>\s,;]+)>\s*', re.S)  # a name, and one address
_BARE = re.compile(r"\s*([^\s<>,;:()\"]+)\s*")


def authors(header: bytes) -> list[str]:
    """The addresses in all From and Sender fields of `header`."""
    values = [_text(field[2]) for field in _FIELD.finditer(header) if field[1].lower() != b"reply-to"]
    return [address for _, address in getaddresses(values) if address]


def complete_addresses(content: bytes, outward: Callable[[str], str | None]) -> bytes:
    """`content` with the local addresses of its From, Sender and Reply-To as they look outside.

    `outward` gives an address's outward form, or None where it has none.
    """
    end = header_end(content)
    changed = _FIELD.sub(lambda field: _mapped(field, outward), content[:end])
    return content if changed == content[:end] else changed + content[end:]


def leave_under(content: bytes, sender: str, keeps: Callable[[str], bool]) -> bytes:
    """`content` from `sender`, unless its From is one that it `keeps`.

    Who it really is from stays as its name, and answers go there: by Reply-To, if there is none already. A Sender that
    may not stay goes.
    """
    end = header_end(content)
    header = content[:end]
    written = Header(header).value(b"From")
    addresses = [address for _, address in getaddresses([written]) if address]
    if not addresses or all(map(keeps, addresses)):
        return content
    answers = "" if b"Reply-To" in Header(header) else f"Reply-To: {written}\r\n"

    def change(field: re.Match[bytes]) -> bytes:
        kind = field[1].lower()
        if kind == b"from":
            return f"From: {_name_of(written, addresses[0])} <{sender}>\r\n{answers}".encode()
        if kind == b"sender" and not all(keeps(address) for _, address in getaddresses([_text(field[2])])):
            return b""
        return field[0]

    return _FIELD.sub(change, header) + content[end:]


def _text(value: bytes) -> str:
    return value.replace(b"\r\n", b"").decode("utf-8", "surrogateescape").strip()


def _name_of(written: str, address: str) -> str:
    """The display name as it was written, where there is one author with one; else the address's local part."""
    match = _ONE.fullmatch(written)
    name = match[1].strip() if match is not None else ""
    if name:
        return name
    local = address.rpartition("@")[0] or address
    return local if re.fullmatch(r"[\w!#$%&'*+/=?^`{|}~-]+", local) else '"' + re.sub(r'[\\"]', "", local) + '"'


def _mapped(field: re.Match[bytes], outward: Callable[[str], str | None]) -> bytes:
    """A field with its one address made outward; lists of several stay as they are."""
    value = field[2].decode("utf-8", "surrogateescape")
    match = _ONE.fullmatch(value) or _BARE.fullmatch(value)
    if match is None:
        return field[0]
    place = match.lastindex or 1
    address = match[place]
    outside = outward(address)
    if outside is None or outside == address:
        return field[0]
    changed = value[: match.start(place)] + outside + value[match.end(place) :]
    return field[1] + b":" + changed.encode("utf-8", "surrogateescape") + b"\r\n"
