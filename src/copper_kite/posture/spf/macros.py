"""Macros in SPF records (RFC 7208 7)."""

from __future__ import annotations

import ipaddress
import re
from typing import NamedTuple

__all__ = ["Subject", "expand"]

_MACRO = re.compile(r"%\{([slodiphv])(\d*)(r?)([.+,/_=-]*)\}|%%|%_|%-", re.I)
MAX_NAME = 253  # octets; the left labels go where a name comes out longer (RFC 7208 7.3)


class Subject(NamedTuple):
    """The subject of an evaluation: the client's address, the sender of its mail, and the name in its greeting."""

    address: ipaddress.IPv4Address | ipaddress.IPv6Address
    sender: str
    hello: str


def expand(text: str, subject: Subject, domain: str) -> str:
    """The domain that `text` means where the record of `domain` says it."""

    def replace(macro: re.Match[str]) -> str:
        letter, digits, reverse, delimiters = macro.groups()
        if letter is None:
            return {"%%": "%", "%_": " ", "%-": "%20"}[macro[0]]
        parts = re.split(f"[{re.escape(delimiters or '.')}]", _value(letter.lower(), subject, domain))
        if reverse:
            parts.reverse()
        return ".".join(parts[-int(digits) :] if digits and int(digits) else parts)

    name = _MACRO.sub(replace, text).rstrip(".")
    while len(name) > MAX_NAME and "." in name:
        name = name.partition(".")[2]
    return name


def _value(letter: str, subject: Subject, domain: str) -> str:
    values = {
        "s": subject.sender,
        "l": subject.sender.rpartition("@")[0] or "postmaster",
        "o": subject.sender.rpartition("@")[2],
        "d": domain,
        "i": _dotted(subject.address),
        "p": "unknown",  # RFC 7208 7.3: should not be used, and costs lookups that nobody wants
        "v": "in-addr" if subject.address.version == 4 else "ip6",
        "h": subject.hello or "unknown",
    }
    return values[letter]


def _dotted(address: ipaddress.IPv4Address | ipaddress.IPv6Address) -> str:
    return str(address) if address.version == 4 else ".".join(address.exploded.replace(":", ""))
