"""The parameters that may stand behind MAIL and RCPT: whose extension each is, and what its value must be."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import NamedTuple

from copper_kite.smtp.grammar import Syntax, decode_xtext

__all__ = ["MAIL_PARAMETERS", "RCPT_PARAMETERS", "Parameter", "written"]

MAX_ENVID = 100  # characters, RFC 3461 4.4
MAX_ORCPT = 500  # characters, RFC 3461 4.2
CONDITIONS = frozenset({"SUCCESS", "FAILURE", "DELAY"})


class Parameter(NamedTuple):
    """The `extension` that brings a parameter, whether a value `fits`, and whether it goes on to the next hop."""

    extension: str
    fits: Callable[[str | None], bool]
    goes_on: bool = False


def _is_xtext(value: str | None) -> bool:
    try:
        return value is not None and bool(decode_xtext(value) or value)
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


MAIL_PARAMETERS: dict[str, Parameter] = {
    "SIZE": Parameter(  # RFC 1870 3
        "SIZE", lambda value: value is not None and value.isascii() and value.isdigit() and len(value) <= 20
    ),
    "BODY": Parameter("8BITMIME", lambda value: (value or "").upper() in ("7BIT", "8BITMIME")),  # RFC 6152 2
    "SMTPUTF8": Parameter("SMTPUTF8", lambda value: value is None),  # RFC 6531 3.4
    "AUTH": Parameter("AUTH", _is_xtext),  # RFC 4954 5: read, never trusted
    "RET": Parameter("DSN", lambda value: (value or "").upper() in ("FULL", "HDRS"), goes_on=True),  # RFC 3461 4.3
    "ENVID": Parameter("DSN", lambda value: _is_shown_xtext(value, MAX_ENVID), goes_on=True),  # RFC 3461 4.4
    "REQUIRETLS": Parameter("REQUIRETLS", lambda value: value is None, goes_on=True),  # RFC 8689 2
}

RCPT_PARAMETERS: dict[str, Parameter] = {
    "NOTIFY": Parameter("DSN", _is_notify, goes_on=True),  # RFC 3461 4.1
    "ORCPT": Parameter("DSN", _is_orcpt, goes_on=True),  # RFC 3461 4.2
}


def written(given: Mapping[str, str | None], known: Mapping[str, Parameter]) -> str:
    """Those that go on to the next hop, as they came (RFC 3461 5.2.1)."""
    return " ".join(key if value is None else f"{key}={value}" for key, value in given.items() if known[key].goes_on)
