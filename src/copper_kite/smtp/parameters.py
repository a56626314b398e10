"""The parameters that may stand behind MAIL, each with what its value must be."""

from __future__ import annotations

from collections.abc import Callable

from copper_kite.smtp.grammar import Syntax, decode_xtext

__all__ = ["MAIL_PARAMETERS"]


def _is_xtext(value: str | None) -> bool:
    try:
        return value is not None and bool(decode_xtext(value) or value)
    except Syntax:
        return False


MAIL_PARAMETERS: dict[str, Callable[[str | None], bool]] = {
    "SIZE": lambda value: value is not None and value.isascii() and value.isdigit() and len(value) <= 20,  # RFC 1870 3
    "BODY": lambda value: (value or "").upper() in ("7BIT", "8BITMIME"),  # RFC 6152 2
    "SMTPUTF8": lambda value: value is None,  # RFC 6531 3.4
    "AUTH": _is_xtext,  # RFC 4954 5: read, never trusted
}
