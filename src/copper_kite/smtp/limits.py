"""The limits of one session that the server enforces."""

from __future__ import annotations

from dataclasses import dataclass

from copper_kite.smtp.content import ContentReader, Takes

__all__ = ["Limits"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Limits:
    """Bounds of one session.

    `recipients` a message, at least 100 (RFC 5321 4.5.3.1.8); `messages` a session, 0 for no limit (RFC 9422 4);
    `patience` in bad or idle commands between two accepted messages; `logins` that may fail (RFC 4954 9); `reader`
    reads content (a stand-in may have a worse one), and `takes` what it says; `lenient` takes commands that are
    slightly off and mean one thing only.
    """

    recipients: int = 1000
    messages: int = 0
    patience: int = 50
    logins: int = 5
    reader: type[ContentReader] = ContentReader
    takes: Takes = Takes.FIT
    lenient: bool = False
