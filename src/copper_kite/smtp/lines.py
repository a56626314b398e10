"""Command lines out of octets: only CR LF ends a line, and no line costs more memory than its limit."""

from __future__ import annotations

from copper_kite.smtp.grammar import Syntax

__all__ = ["MAX_COMMAND_LINE", "MAX_LOGIN_LINE", "LineBuffer", "LineTooLong"]

MAX_COMMAND_LINE = 2048  # octets incl. CRLF: 512 (RFC 5321 4.5.3.1.4) and what each extension adds, with room
MAX_LOGIN_LINE = 12290  # octets incl. CRLF, for answers to a login challenge (RFC 4954 4)


class LineTooLong(Syntax):
    """Raised once for a line over its limit, when its end has come; the line is gone by then."""


class LineBuffer:
    """Octets waiting to be lines or content, in `data`; new ones go at its end. Each octet is searched once."""

    def __init__(self) -> None:
        self.data = b""
        self._searched = 0
        self._discarding = False

    def take_all(self) -> bytes:
        """Everything not yet read, for content."""
        data, self.data, self._searched = self.data, b"", 0
        return data

    def give_back(self, rest: bytes) -> None:
        """What content left over goes first again."""
        self.data, self._searched = rest, 0

    def clear(self) -> None:
        """Forget everything (RFC 3207 4.2)."""
        self.data, self._searched, self._discarding = b"", 0, False

    def next_line(self, limit: int) -> bytes | None:
        """The next line with its CR LF, or None when more octets are needed.

        Raises LineTooLong for a line over `limit` octets, once its end has been seen.
        """
        data = self.data
        if not data:
            return None
        end = data.find(b"\r\n", self._searched)
        if end < 0:
            if len(self.data) > limit:
                self._discarding = True
            if self._discarding:
                self.data = self.data[-1:]  # it may be the CR of the line's end
            self._searched = max(len(self.data) - 1, 0)
            return None
        self.data, self._searched = data[end + 2 :], 0
        if self._discarding or end + 2 > limit:
            self._discarding = False
            raise LineTooLong(f"a line of over {limit} octets")
        return data[: end + 2]
