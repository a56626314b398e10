"""Secrets in what the other side says: a server that repeats what it was sent must not put them on record.

A secret is found as it is, percent-encoded, and in base64 by itself or within something longer (the string of PLAIN,
a bearer's message), also where only a part of that was repeated.
"""

from __future__ import annotations

import base64
import re
from collections.abc import Iterable
from urllib.parse import quote, quote_plus

from copper_kite.smtp.replies import Reply

__all__ = ["MASK", "Masks"]

MASK = "***"
LEAST = 3  # characters of a secret that is looked for: a shorter one is in every text
LEAST_SHARED = 8  # characters of base64 that count as a part of what was sent
_WORD = re.compile(r"[A-Za-z0-9+/_-]{8,}={0,2}")


class Masks:
    """The secrets of one session, and what was sent that holds them."""

    def __init__(self, secrets: Iterable[str]) -> None:
        known = [secret for secret in secrets if len(secret) >= LEAST]
        self._octets = [secret.encode() for secret in known]
        self._forms = {form for secret in known for form in _forms(secret)}
        self._known = _any_of(self._forms)
        self._sent: list[str] = []
        self.thorough = True  # whether words in base64 are looked into; when the login is over, known forms are enough

    def sent(self, message: bytes) -> None:
        """A message of the login went out, in base64."""
        word = base64.b64encode(message).decode().rstrip("=")
        if len(word) >= LEAST_SHARED:
            self._sent.append(word)
            self._known = _any_of({*self._forms, *self._sent})

    def text(self, text: str) -> str:
        """`text` without them."""
        text = self._known.sub(MASK, text)
        return _WORD.sub(self._word, text) if self.thorough else text

    def reply(self, reply: Reply) -> Reply:
        """`reply` without them; the same one where there are none."""
        if not self.thorough and self._known.search(reply.text) is None:
            return reply  # as nearly all are
        lines = [self.text(line) for line in reply.lines]
        return reply if lines == list(reply.lines) else Reply(reply.code, reply.enhanced, *lines)

    def _word(self, match: re.Match[str]) -> str:
        word = match[0].rstrip("=")
        part_of_sent = any(word in item or item[:LEAST_SHARED] in word for item in self._sent)
        return MASK if part_of_sent or self._decodes_to_one(word) else match[0]

    def _decodes_to_one(self, word: str) -> bool:
        plain = word.replace("-", "+").replace("_", "/")
        for start in range(4):  # wherever in the word the base64 began
            piece = plain[start : start + (len(plain) - start) // 4 * 4]
            decoded = base64.b64decode(piece)
            if any(secret in decoded for secret in self._octets):
                return True
        return False


def _any_of(forms: Iterable[str]) -> re.Pattern[str]:
    """A pattern for any of these, with the padding of base64; longer ones first. Without any, it matches nothing."""
    result = "|".join(re.escape(form) for form in sorted(forms, key=len, reverse=True))
    return re.compile(f"(?:{result})={{0,2}}" if result else r"(?!)")


def _forms(secret: str) -> Iterable[str]:
    """A secret as text may have it."""
    octets = secret.encode()
    yield secret
    for safe in ("", "/"):
        yield quote(secret, safe=safe)
        yield quote(secret, safe=safe).lower()
    yield quote_plus(secret)
    if len(octets) > LEAST:
        yield base64.b64encode(octets).decode().rstrip("=")
        yield base64.urlsafe_b64encode(octets).decode().rstrip("=")
        yield octets.hex()
