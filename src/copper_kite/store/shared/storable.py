"""Values that the database accepts: text without lone surrogates, integers within 64 bits."""

from __future__ import annotations

import re
from typing import Any

__all__ = ["storable"]

_SURROGATE = re.compile("[\ud800-\udfff]")
_LARGEST = 2**63 - 1  # of an integer in a column


def storable(value: Any) -> Any:
    """`value`, and all that it holds, with what cannot be stored replaced: surrogates by U+FFFD, the rest by text."""
    if isinstance(value, str):
        return _SURROGATE.sub("\ufffd", value)
    if isinstance(value, dict):
        return {storable(key): storable(entry) for key, entry in value.items()}
    if isinstance(value, tuple) and hasattr(value, "_fields"):
        return type(value)(*map(storable, value))
    if isinstance(value, list | tuple):
        return type(value)(map(storable, value))
    if isinstance(value, int) and not -_LARGEST <= value <= _LARGEST:
        return str(value)
    return value if value is None or isinstance(value, int | float | bytes) else str(value)
