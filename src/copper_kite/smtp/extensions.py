"""The extensions that a server offers after EHLO: our own list, and a peer's reply parsed (RFC 5321 4.1.1.1)."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from typing import NamedTuple

from copper_kite.smtp.limits import Limits

__all__ = ["EXTENSIONS", "Capabilities", "Offers"]


MOST_NAMED = 999_999  # a limit has six digits at most, RFC 9422 4
_LIMIT = re.compile(r"[1-9][0-9]{0,5}")
_SIZE = re.compile(r"[0-9]{1,20}")  # RFC 1870 4
_OLD_AUTH = re.compile(r"(?i)^auth=")


@dataclass(frozen=True, slots=True, kw_only=True)
class Offers:
    """The extensions of our server. `max_size` in octets, 0 for no limit; `logins` are SASL mechanism names."""

    max_size: int = 0
    starttls: bool = False
    demands_tls: bool = False  # no mail in clear (RFC 3207 4)
    logins: tuple[str, ...] = ()
    clear_logins: bool = False
    withheld: frozenset[str] = frozenset()
    keeps_size: bool = True  # a stand-in may say a SIZE and not keep to it
    priorities: bool = False  # whether clients may say how urgent a message is (RFC 6710)

    def keywords(self, *, secure: bool, logged_in: bool, limits: Limits) -> tuple[str, ...]:
        """The lines of an EHLO reply after the first."""
        return tuple(
            f"{name} {arguments}" if (arguments := extension.arguments(self, limits)) else name
            for name, extension in EXTENSIONS.items()
            if name not in self.withheld and extension.offered(self, secure) and not (logged_in and name == "AUTH")
        )

    def has(self, extension: str, *, secure: bool) -> bool:
        """Whether an extension is offered now, to a client that uses one of its parameters."""
        if extension == "AUTH":  # a relaying client may name the account at MAIL without a login of its own
            return bool(self.logins)
        return extension not in self.withheld and EXTENSIONS[extension].offered(self, secure)

    def may_login(self, *, secure: bool) -> bool:
        """Whether a login is offered now: never in clear unless asked for (RFC 4954 4)."""
        return bool(self.logins) and (secure or self.clear_logins)


class Extension(NamedTuple):
    """When a server offers it, by what it `Offers` and whether TLS is on; and what stands after its keyword."""

    offered: Callable[[Offers, bool], bool] = lambda offers, secure: True
    arguments: Callable[[Offers, Limits], str] = lambda offers, limits: ""


def _limits(offers: Offers, limits: Limits) -> str:
    """RFC 9422 4."""
    most = f" MAILMAX={min(limits.messages, MOST_NAMED)}" if limits.messages else ""
    return f"RCPTMAX={min(limits.recipients, MOST_NAMED)}{most}"


# What ours offers, in this order. The parameters that an extension brings are in `smtp.parameters`.
EXTENSIONS: dict[str, Extension] = {
    "PIPELINING": Extension(),
    "SIZE": Extension(arguments=lambda offers, limits: str(offers.max_size)),
    "8BITMIME": Extension(),
    "SMTPUTF8": Extension(),
    "CHUNKING": Extension(),
    "DSN": Extension(),
    "LIMITS": Extension(arguments=_limits),
    "ENHANCEDSTATUSCODES": Extension(),
    # RFC 6710: the profile of three classes, -4, 0 and 4
    "MT-PRIORITY": Extension(lambda offers, secure: offers.priorities, lambda offers, limits: "MIXER"),
    "REQUIRETLS": Extension(lambda offers, secure: secure),  # RFC 8689 2: never in clear
    "STARTTLS": Extension(lambda offers, secure: offers.starttls and not secure),
    "AUTH": Extension(
        lambda offers, secure: offers.may_login(secure=secure), lambda offers, limits: " ".join(offers.logins)
    ),
}


class Capabilities:
    """A peer's capabilities: keyword in upper case → its arguments.

    `size` is the largest message it takes in octets, None when it names no limit (RFC 1870 4); `logins` are the SASL
    mechanisms in upper case, in its order. `most_recipients` of a message and `most_messages` of a session are None
    without a limit (RFC 9422 4); limits with other names mean nothing to us. `remarks` name what made no sense and is
    ignored.
    """

    __slots__ = ("keywords", "logins", "most_messages", "most_recipients", "remarks", "size")

    def __init__(self, keywords: Mapping[str, tuple[str, ...]] | None = None) -> None:
        self.keywords = keywords or {}
        self.remarks: tuple[str, ...] = ()
        self.size = self._size_of(self.keywords.get("SIZE", ()))
        self.logins = tuple(dict.fromkeys(name.upper() for name in self.keywords.get("AUTH", ())))
        limits = dict(limit.upper().split("=", 1) for limit in self.keywords.get("LIMITS", ()) if "=" in limit)
        self.most_recipients = self._limit_of(limits, "RCPTMAX")
        self.most_messages = self._limit_of(limits, "MAILMAX")

    def _size_of(self, arguments: tuple[str, ...]) -> int | None:
        text = "".join(arguments[:1])
        if not text or _SIZE.fullmatch(text):
            return int(text or 0) or None
        self._ignored("SIZE", text)
        return None

    def _limit_of(self, limits: Mapping[str, str], name: str) -> int | None:
        text = limits.get(name)
        if text is None or _LIMIT.fullmatch(text):
            return int(text) if text is not None else None
        self._ignored(f"LIMITS {name}", text)
        return None

    def _ignored(self, what: str, text: str) -> None:
        self.remarks += (f"{what} is ignored: {ascii(text)[1:-1][:40]} is no number that it may have",)

    @classmethod
    def parse(cls, lines: Iterable[str]) -> Capabilities:
        """Parse the lines of an EHLO reply after the first, in any case. Old servers write `AUTH=`."""
        keywords: dict[str, tuple[str, ...]] = {}
        for line in lines:
            words = _OLD_AUTH.sub("AUTH ", line).split()
            if words:
                key = words[0].upper()
                keywords[key] = keywords.get(key, ()) + tuple(words[1:])
        return cls(keywords)

    def __contains__(self, keyword: str) -> bool:
        return keyword in self.keywords
