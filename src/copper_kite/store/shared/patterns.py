"""Patterns of addresses and texts, translated for LIKE; engines compare without case."""

from __future__ import annotations

import re

__all__ = ["address_pattern", "escaped_text"]


def escaped_text(text: str) -> str:
    """A text in which no character stands for others; a backslash escapes those that would."""
    return re.sub(r"([%_\\])", r"\\\1", text)


def address_pattern(pattern: str) -> str:
    """An address, a domain or `*.domain`; empty for none."""
    escaped = escaped_text(pattern)
    if not pattern or "@" in pattern:
        return escaped
    return f"%.{escaped[2:]}" if pattern.startswith("*.") else f"%@{escaped}"
