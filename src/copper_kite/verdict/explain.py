"""The meaning of a reply: from its codes, their definitions in the standards, and its text."""

from __future__ import annotations

import re
from collections.abc import Mapping
from functools import lru_cache
from typing import NamedTuple

from copper_kite.verdict.data import knowledge

__all__ = ["Phrase", "find_phrase", "standard_meaning"]


class Phrase(NamedTuple):
    """The meaning of a reply's text, for when its codes say little."""

    about: str
    pattern: re.Pattern[str]
    kind: str  # the class of codes that it is for, empty for any
    entry: Mapping[str, str]


@lru_cache(maxsize=1)
def _phrases() -> list[Phrase]:
    return [
        Phrase(
            item["about"],
            re.compile("|".join(f"(?:{said})" for said in item["says"]), re.I),
            item.get("class", ""),
            item,
        )
        for item in knowledge()["phrase"]
    ]


def find_phrase(code: int | None, text: str) -> Phrase | None:
    """The first phrase that the text of a reply holds."""
    kind = str(code or "")[:1]
    return next((phrase for phrase in _phrases() if phrase.kind in ("", kind) and phrase.pattern.search(text)), None)


def standard_meaning(enhanced: str) -> str:
    """The meaning of an enhanced code by RFC 3463; empty for an undefined one."""
    kind, _, detail = enhanced.partition(".")
    known = knowledge()["code"].get(detail) or knowledge()["code"].get(f"{detail.partition('.')[0]}.0", "")
    grade = knowledge()["class"].get(kind, "")
    return f"{known} ({grade})" if known and grade else ""
