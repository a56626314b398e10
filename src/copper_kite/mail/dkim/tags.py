"""Lists of tags and values, as signatures and records in DNS have them (RFC 6376 3.2, RFC 7489 6.3, RFC 8460 3)."""

from __future__ import annotations

import re

__all__ = ["BadTags", "parse_tags"]

_NAME = re.compile(r"[A-Za-z][A-Za-z0-9_]*")


class BadTags(ValueError):
    """A text that is not a list of tags; the message says where it is wrong."""


def parse_tags(text: str) -> dict[str, str]:
    """The tags in their order, values without the white space around them. Raises BadTags, also for a tag given twice.

    Line ends may be folded; names keep their case.
    """
    tags: dict[str, str] = {}
    for part in text.split(";"):
        if not part.strip():
            continue
        name, value = _tag(part)
        if name in tags:
            raise BadTags(f"the tag {name} is given twice")
        tags[name] = value
    return tags


def _tag(part: str) -> tuple[str, str]:
    name, equals, value = part.partition("=")
    name = name.strip()
    if not equals:
        raise BadTags(f"{part.strip()[:60]!r} has no =")
    if not _NAME.fullmatch(name):
        raise BadTags(f"{name[:60]!r} is not a tag's name")
    return name, value.strip()
