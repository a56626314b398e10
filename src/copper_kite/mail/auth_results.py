"""`Authentication-Results:`, what a receiver says it checked (RFC 8601 2.2)."""

from __future__ import annotations

from dataclasses import dataclass, field

from copper_kite.mail.tokens import Token, tokenize

__all__ = ["Checked", "Result", "parse_results"]


@dataclass(slots=True)
class Result:
    """One method's result: `pass`, `fail` and so on, why, and of what (`smtp.mailfrom`, `header.d`)."""

    method: str
    value: str
    reason: str = ""
    properties: dict[str, str] = field(default_factory=dict)


@dataclass(slots=True)
class Checked:
    """One field: who says it, the version of the format, and the results."""

    server: str
    version: str = ""
    results: list[Result] = field(default_factory=list)


def parse_results(value: str) -> Checked:
    """The parts of an unfolded field; unknown methods are kept, malformed ones are skipped."""
    parts: list[list[Token]] = [[]]
    for token in tokenize(value, ";="):
        if token == Token("mark", ";"):
            parts.append([])
        elif token.kind != "comment":
            parts[-1].append(token)
    head = [token.text for token in parts[0]]
    checked = Checked(head[0].lower() if head else "", head[1] if len(head) > 1 else "")
    for part in parts[1:]:
        pairs = _pairs(part)
        if not pairs:
            continue  # `none`, or nothing
        method, value = pairs[0]
        result = Result(method.partition("/")[0].lower(), value.lower())
        for name, text in pairs[1:]:
            if name.lower() == "reason":
                result.reason = text
            else:
                result.properties[name.lower()] = text
        checked.results.append(result)
    return checked


def _pairs(tokens: list[Token]) -> list[tuple[str, str]]:
    return [
        (before.text, after.text)
        for before, mark, after in zip(tokens, tokens[1:], tokens[2:], strict=False)
        if mark == Token("mark", "=") and before.kind == "word"
    ]
