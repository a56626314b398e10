"""The addresses in an address list, and where they stand in it (RFC 5322 3.4, and the obsolete forms of 4.4).

Nothing is ever refused, and the time is linear in the length of the text: what a header holds may be an attack.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import NamedTuple

__all__ = ["PIECE", "Mailbox", "comment_end", "mailboxes", "replace_addresses"]

_QUOTED = r'"(?:[^"\\]|\\.)*+"?+'  # to its end, or to the end of the text
# One piece of an address list; an opening bracket of a comment has no group.
PIECE = re.compile(
    rf"(?P<quoted>{_QUOTED})"
    rf'|<(?P<angle>(?:[^<>"]|{_QUOTED})*+)>?+'
    r"|(?P<mark>[,;:])"
    r'|(?P<word>(?:\[[^\]\[\s]{0,256}+\]|[^\s"(),:;<>\[])++)'
    r"|\(",
    re.S,
)
_BRACKET = re.compile(r"[()]|\\.", re.S)
_ROUTE = re.compile(r"\s*@[^:<>]*:")  # before the address, RFC 5322 4.4


class Mailbox(NamedTuple):
    """One address: where it stands in the text, what it is without comments and blanks, and the name before it."""

    start: int
    end: int
    address: str
    name: str


def mailboxes(text: str) -> list[Mailbox]:
    """All of them, in order; those without an address (an empty `<>`, words alone) as what stands there."""
    results: list[Mailbox] = []
    words: list[tuple[int, int]] = []
    angle: Mailbox | None = None
    at = 0
    while (piece := PIECE.search(text, at)) is not None:
        at = piece.end()
        if piece.lastgroup is None:
            at = comment_end(text, at)
        elif piece.lastgroup == "angle":
            angle = angle or _in_brackets(text, piece, words)
        elif piece["mark"] == ":":
            words = []  # they were the name of a group
        elif piece["mark"]:
            _finish(text, angle, words, results)
            angle, words = None, []
        elif angle is None:
            words.append(piece.span())
    _finish(text, angle, words, results)
    return results


def _in_brackets(text: str, piece: re.Match[str], words: list[tuple[int, int]]) -> Mailbox:
    start, end = piece.span("angle")
    if (route := _ROUTE.match(text, start, end)) is not None:
        start = route.end()
    while start < end and text[start].isspace():
        start += 1
    while start < end and text[end - 1].isspace():
        end -= 1
    name = text[words[0][0] : words[-1][1]] if words else ""
    return Mailbox(start, end, text[start:end], name)


def _finish(text: str, angle: Mailbox | None, words: list[tuple[int, int]], mailboxes: list[Mailbox]) -> None:
    if angle is not None:
        mailboxes.append(angle)
    elif words:
        start, end = words[0][0], words[-1][1]
        parts = [text[first:last] for first, last in words]
        between = "" if any("@" in part for part in parts) else " "
        mailboxes.append(Mailbox(start, end, between.join(parts), ""))


def comment_end(text: str, at: int) -> int:
    """After the comment whose first bracket stands before `at`; comments may hold comments."""
    depth = 1
    for bracket in _BRACKET.finditer(text, at):
        depth += {"(": 1, ")": -1}.get(bracket[0], 0)
        if not depth:
            return bracket.end()
    return len(text)


def replace_addresses(text: str, change: Callable[[str], str | None]) -> str:
    """The text with each address as `change` has it; None leaves it as it is."""
    parts, place = [], 0
    for mailbox in mailboxes(text):
        changed = change(mailbox.address)
        if changed is not None and changed != mailbox.address:
            parts += [text[place : mailbox.start], changed]
            place = mailbox.end
    return "".join([*parts, text[place:]])
