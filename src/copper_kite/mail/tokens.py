"""Structured fields cut into what they are made of: words, quoted strings, comments (RFC 5322 3.2)."""

from __future__ import annotations

from typing import Literal, NamedTuple

__all__ = ["MAX_FIELD", "Token", "tokenize", "without_comments"]

MAX_FIELD = 64 * 1024  # characters of one field that are looked at

Kind = Literal["word", "quoted", "comment", "mark"]


class Token(NamedTuple):
    """One piece. A quoted string and a comment come without their quotes and outer brackets, escapes resolved."""

    kind: Kind
    text: str


def tokenize(value: str, marks: str = ";") -> list[Token]:
    """The tokens of an unfolded value; each character of `marks` is a token of its own. Nothing is ever refused:
    a string or a comment that does not end goes to the end of the value."""
    tokens: list[Token] = []
    value, at = value[:MAX_FIELD], 0
    while at < len(value):
        char = value[at]
        if char.isspace():
            at += 1
        elif char == "(":
            text, at = _comment(value, at + 1)
            tokens.append(Token("comment", text))
        elif char == '"':
            text, at = _quoted(value, at + 1)
            tokens.append(Token("quoted", text))
        elif char in marks:
            tokens.append(Token("mark", char))
            at += 1
        else:
            end = at
            while end < len(value) and not value[end].isspace() and value[end] not in '("' and value[end] not in marks:
                end += 1
            tokens.append(Token("word", value[at:end]))
            at = end
    return tokens


def without_comments(value: str) -> str:
    """The value with each comment as one blank."""
    kept, at, begin = [], 0, 0
    value = value[:MAX_FIELD]
    while (begin := value.find("(", at)) >= 0:
        kept.append(value[at:begin])
        _, at = _comment(value, begin + 1)
    return " ".join([*kept, value[at:]])


def _comment(value: str, at: int) -> tuple[str, int]:
    """The comment that begins at `at`, and where it ends. Comments in it keep their brackets."""
    text: list[str] = []
    depth = 1
    while at < len(value):
        char = value[at]
        if char == "\\" and at + 1 < len(value):
            at += 1
            char = value[at]
        elif char == "(":
            depth += 1
        elif char == ")":
            depth -= 1
            if not depth:
                return "".join(text), at + 1
        text.append(char)
        at += 1
    return "".join(text), at


def _quoted(value: str, at: int) -> tuple[str, int]:
    text: list[str] = []
    while at < len(value) and value[at] != '"':
        at += value[at] == "\\" and at + 1 < len(value)
        text.append(value[at])
        at += 1
    return "".join(text), at + 1
