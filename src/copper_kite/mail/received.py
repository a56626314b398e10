"""The one field that this server adds to everything that passes it (RFC 5321 4.4, RFC 3848)."""

from __future__ import annotations

import re
import time
from collections.abc import Collection
from functools import lru_cache

__all__ = ["format_date", "protocol_word", "received_field", "received_from"]

_DAYS = ("Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun")
_MONTHS = ("Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec")
_COMMENT_UNSAFE = re.compile(r"[^A-Za-z0-9 ._:@/+-]")


@lru_cache(maxsize=8)
def _format_second(second: int) -> str:
    at = time.localtime(second)
    minutes = at.tm_gmtoff // 60
    zone = f"{'-' if minutes < 0 else '+'}{abs(minutes) // 60:02}{abs(minutes) % 60:02}"
    return (
        f"{_DAYS[at.tm_wday]}, {at.tm_mday:02} {_MONTHS[at.tm_mon - 1]} {at.tm_year} "
        f"{at.tm_hour:02}:{at.tm_min:02}:{at.tm_sec:02} {zone}"
    )


def format_date(at: float) -> str:
    """`at` (seconds since 1970) as RFC 5322 3.3 writes it, with the local zone in numbers."""
    return _format_second(int(at))


def protocol_word(*, extended: bool, secure: bool, logged_in: bool, utf8: bool) -> str:
    """The word after `with` (RFC 3848, RFC 6531 4.3)."""
    if not extended:
        return "SMTP"
    return f"{'UTF8SMTP' if utf8 else 'ESMTP'}{'S' if secure else ''}{'A' if logged_in else ''}"


def received_from(*, hello: str, client: str, user: str, server: str, protocol: str, tls: str = "") -> str:
    """The first half of the field, which is the same for all messages of a session.

    `client` is an address literal, or empty for a local socket; `tls` its version and cipher.
    """
    where = f"[{client}]" if client else "local socket"
    if user:
        where += f" user {_COMMENT_UNSAFE.sub('?', user)}"
    how = f" ({tls})" if tls else ""
    return f"Received: from {hello} ({where})\r\n\tby {server} with {protocol}{how}"


def received_field(first: str, *, id: str, recipients: Collection[str], at: float, priority: int = 0) -> bytes:
    """The whole field with its CR LFs; `first` is what `received_from` gave.

    `for` names the recipient only when there is exactly one, so that nobody's blind copy shows (RFC 5321 7.2);
    `priority` is told where it is not the ordinary one (RFC 6710).
    """
    only = f"\r\n\tfor <{next(iter(recipients))}>" if len(recipients) == 1 else ""
    urgent = f"\r\n\tPRIORITY {priority}" if priority else ""
    return f"{first} id {id}{only}{urgent};\r\n\t{format_date(at)}\r\n".encode()
