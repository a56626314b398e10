"""A message that a stand-in received."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from copper_kite.net import Peer

__all__ = ["Caught", "number_text"]


@dataclass(frozen=True, slots=True)
class Caught:
    """A received message with the facts of its session. `file` is its path, None when nothing is kept.

    `at` in seconds since 1970; `tls` holds version and cipher.
    """

    number: int
    reverse_path: str
    recipients: tuple[str, ...]
    size: int
    peer: Peer
    secure: bool
    login: str
    file: Path | None
    at: float
    hello: str
    tls: str
    esmtp_parameters: str = ""  # as they stood after MAIL
    rcpt_parameters: tuple[str, ...] = ()  # as they stood after each RCPT
    message_id: str = ""

    def export(self) -> dict[str, object]:
        """The message as plain values, for JSON."""
        return {
            "number": self.number,
            "id": number_text(self.number),
            "time": datetime.fromtimestamp(self.at, UTC).isoformat(timespec="milliseconds"),
            "from": self.reverse_path,
            "to": list(self.recipients),
            "size": self.size,
            "client": str(self.peer),
            "hello": self.hello,
            "tls": self.tls or None,
            "login": self.login or None,
            "mail_parameters": self.esmtp_parameters,
            "rcpt_parameters": list(self.rcpt_parameters),
            "message_id": self.message_id or None,
            "file": str(self.file) if self.file else None,
        }


def number_text(number: int) -> str:
    """A message's number as files and replies have it."""
    return f"{number:06}"
