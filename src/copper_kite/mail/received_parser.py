"""Parser of `Received:` fields: one hop of a message's way (RFC 5321 4.4, RFC 5322 3.6.7)."""

from __future__ import annotations

import re
from dataclasses import dataclass, field

from copper_kite.mail.dates import When, parse_date
from copper_kite.mail.tokens import Token, tokenize

__all__ = ["Hop", "parse_received"]

_CLAUSES = ("from", "by", "via", "with", "id", "for")
_ADDRESS = re.compile(r"\[?(?:IPv6:)?((?:\d{1,3}\.){3}\d{1,3}|[0-9A-Fa-f]{0,4}:[0-9A-Fa-f:.]{1,45})\]?", re.I)
_TLS = re.compile(r"\b(?:TLS|SSL)\s?v?(\d)[._]?(\d)?(?![\dA-Za-z])", re.I)
_CIPHER = re.compile(r"\b(TLS_[A-Z0-9_]{6,}|(?:ECDHE|DHE|AES\d+|CHACHA20|DES)[A-Z0-9-]{4,})")
_SECURE = re.compile(r"(?:UTF8)?(?:E?SMTP|LMTP)S(?:A)?", re.I)


NO_DATE = When(None, fault="no date")


@dataclass(frozen=True, slots=True)
class Hop:
    """One hop. A clause that is not there is empty; `comments` are by clause, `rest` is what none of them says."""

    sender: str = ""
    receiver: str = ""
    via: str = ""
    protocol: str = ""
    id: str = ""
    recipient: str = ""
    when: When = NO_DATE
    comments: dict[str, str] = field(default_factory=dict)
    rest: str = ""

    @property
    def address(self) -> str:
        """The sender's IP address, where the receiver noted it."""
        result = _ADDRESS.search(self.comments.get("from", "")) or _ADDRESS.fullmatch(self.sender)
        return result[1] if result else ""

    @property
    def secure(self) -> bool:
        """Whether it came under TLS, as far as the receiver says (RFC 3848)."""
        return bool(_SECURE.fullmatch(self.protocol) or self.tls)

    @property
    def tls(self) -> str:
        """The version of TLS, where the field has it."""
        match = _TLS.search(" ".join((*self.comments.values(), self.rest)))
        return f"TLSv{match[1]}.{match[2] or 0}" if match else ""

    @property
    def cipher(self) -> str:
        """The cipher, where the field has it."""
        match = _CIPHER.search(" ".join((*self.comments.values(), self.rest)))
        return match[1] if match else ""


def parse_received(value: str) -> Hop:
    """The parts of an unfolded field. No field is refused."""
    tokens = tokenize(value)
    ends = [place for place, token in enumerate(tokens) if token == Token("mark", ";")]
    clauses: dict[str, str] = {}
    comments: dict[str, str] = {}
    rest: list[str] = []
    current = ""
    for token in tokens[: ends[-1]] if ends else tokens:
        word = token.text.lower()
        if token.kind == "word" and word in _CLAUSES and word not in clauses:
            current = word
            clauses[current] = ""
        elif token.kind == "comment":
            comments[current] = f"{comments[current]} {token.text}" if current in comments else token.text
        elif current and not clauses[current]:
            clauses[current] = token.text
        else:
            rest.append(token.text)
    return Hop(
        sender=clauses.get("from", ""),
        receiver=clauses.get("by", ""),
        via=clauses.get("via", ""),
        protocol=clauses.get("with", ""),
        id=clauses.get("id", "").strip("<>"),
        recipient=clauses.get("for", "").strip("<>"),
        when=_date(value, tokens, bool(ends)),
        comments=comments,
        rest=" ".join(rest),
    )


def _date(value: str, tokens: list[Token], parted: bool) -> When:
    """The date after the last `;` that is not in a comment or a string."""
    if not parted:
        return NO_DATE
    after: list[str] = []
    for token in reversed(tokens):
        if token == Token("mark", ";"):
            break
        if token.kind != "comment":
            after.append(token.text)
    return parse_date(" ".join(reversed(after)))
