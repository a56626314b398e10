"""The parameters of MAIL and RCPT: the extension of each, and the check of its value."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from typing import NamedTuple

from copper_kite.smtp.grammar import Syntax, decode_xtext

__all__ = ["MAIL_PARAMETERS", "RCPT_PARAMETERS", "Parameter", "in_ascii", "written"]

MAX_ENVID = 100  # characters, RFC 3461 4.4
MAX_ORCPT = 500  # characters, RFC 3461 4.2
_PRIORITY = re.compile(r"0|-?[1-9]")  # RFC 6710
CONDITIONS = frozenset({"SUCCESS", "FAILURE", "DELAY"})


class Parameter(NamedTuple):
    """The `extension` that brings a parameter, whether a value `fits`, and whether it goes on to the next hop.

    `fits_utf8` is for transactions with SMTPUTF8, where more may be said; `in_place` goes on in the value's place.
    """

    extension: str
    fits: Callable[[str | None], bool]
    goes_on: bool = False
    fits_utf8: Callable[[str | None], bool] | None = None
    in_place: str | None = None


def _is_xtext(value: str | None, *, utf8: bool = False) -> bool:
    try:
        return value is not None and bool(decode_xtext(value, utf8=utf8) or value)
    except Syntax:
        return False


def _is_shown_xtext(value: str | None, longest: int) -> bool:
    """xtext of what can be printed: it will stand in a header field."""
    return value is not None and len(value) <= longest and _is_xtext(value) and decode_xtext(value).isprintable()


def _is_notify(value: str | None) -> bool:
    if value is None:
        return False
    words = value.upper().split(",")
    return words == ["NEVER"] or (len(set(words)) == len(words) and CONDITIONS.issuperset(words))


def _is_orcpt(value: str | None) -> bool:
    kind, semicolon, address = (value or "").partition(";")
    is_atom = kind.isascii() and kind.replace("-", "").isalnum()
    return is_atom and bool(semicolon and address) and _is_shown_xtext(address, MAX_ORCPT)


def _is_utf8_orcpt(value: str | None) -> bool:
    kind, semicolon, address = (value or "").partition(";")
    if kind.lower() != "utf-8" or address.isascii():
        return _is_orcpt(value)
    return bool(semicolon) and len(address) <= MAX_ORCPT and address.isprintable() and _is_xtext(address, utf8=True)


MAIL_PARAMETERS: dict[str, Parameter] = {
    "SIZE": Parameter(  # RFC 1870 3
        "SIZE", lambda value: value is not None and value.isascii() and value.isdigit() and len(value) <= 20
    ),
    "BODY": Parameter("8BITMIME", lambda value: (value or "").upper() in ("7BIT", "8BITMIME")),  # RFC 6152 2
    "SMTPUTF8": Parameter("SMTPUTF8", lambda value: value is None),  # RFC 6531 3.4
    # RFC 4954 5: what a program asserts of itself is never trusted, and what goes on says so.
    "AUTH": Parameter("AUTH", _is_xtext, goes_on=True, in_place="<>"),
    "RET": Parameter("DSN", lambda value: (value or "").upper() in ("FULL", "HDRS"), goes_on=True),  # RFC 3461 4.3
    "ENVID": Parameter("DSN", lambda value: _is_shown_xtext(value, MAX_ENVID), goes_on=True),  # RFC 3461 4.4
    "MT-PRIORITY": Parameter("MT-PRIORITY", lambda value: _PRIORITY.fullmatch(value or "") is not None, goes_on=True),
    "REQUIRETLS": Parameter("REQUIRETLS", lambda value: value is None, goes_on=True),  # RFC 8689 2
}

RCPT_PARAMETERS: dict[str, Parameter] = {
    "NOTIFY": Parameter("DSN", _is_notify, goes_on=True),  # RFC 3461 4.1
    "ORCPT": Parameter("DSN", _is_orcpt, goes_on=True, fits_utf8=_is_utf8_orcpt),  # RFC 3461 4.2, RFC 6533 3
}


def written(given: Mapping[str, str | None], known: Mapping[str, Parameter]) -> str:
    """The parameters that are passed on to the next hop unchanged (RFC 3461 5.2.1)."""
    words = []
    for key, value in given.items():
        parameter = known[key]
        if parameter.goes_on:
            value = value if parameter.in_place is None else parameter.in_place
            words.append(key if value is None else f"{key}={value}")
    return " ".join(words)


def in_ascii(parameters: str) -> str:
    """Parameters after RCPT for a transaction without SMTPUTF8: an address in ORCPT is escaped (RFC 6533 3)."""
    return (
        parameters if parameters.isascii() else "".join(c if c.isascii() else f"\\x{{{ord(c):X}}}" for c in parameters)
    )
