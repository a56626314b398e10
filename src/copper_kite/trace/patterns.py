"""Patterns from files: finds those that can backtrack without end, because they match one text in very many ways."""

from __future__ import annotations

import re._constants as kinds  # type: ignore[import-not-found]
import re._parser as parser  # type: ignore[import-not-found]
from collections.abc import Iterable, Iterator
from typing import Any

__all__ = ["may_take_for_ever"]

_REPEATS = (kinds.MAX_REPEAT, kinds.MIN_REPEAT)
MANY = 10  # times; a repetition of fewer is none that explodes


def may_take_for_ever(pattern: str) -> bool:
    """Whether there is an unbounded repetition within another one, as in `(a+)+$`.

    Possessive repetitions and atomic groups are no danger: what they have matched stays matched. Raises re.error.
    """
    return any(_repeats(inner) for inner in _repeated(parser.parse(pattern)))


def _repeated(items: Iterable[Any]) -> Iterator[Any]:
    """The body of each unbounded repetition."""
    for kind, value in items:
        if kind in _REPEATS and value[1] > MANY:
            yield value[2]
        for inner in _within(kind, value):
            yield from _repeated(inner)


def _repeats(items: Iterable[Any]) -> bool:
    return next(_repeated(items), None) is not None


def _within(kind: Any, value: Any) -> Iterator[Any]:
    """The sequences of items that an item holds."""
    if kind is kinds.BRANCH:
        yield from value[1]
    elif kind in _REPEATS:
        yield value[2]
    elif kind is kinds.SUBPATTERN:
        yield value[3]
    elif kind in (kinds.ASSERT, kinds.ASSERT_NOT):
        yield value[1]
    elif kind is kinds.GROUPREF_EXISTS:
        yield from (item for item in value[1:] if item is not None)
