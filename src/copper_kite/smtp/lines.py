"""Split octets into command lines: only CR LF ends a line, and no line takes more memory than its limit."""

from __future__ import annotations

from copper_kite.smtp.grammar import Syntax

__all__ = ["MAX_COMMAND_LINE", "MAX_LOGIN_LINE", "LineBuffer", "LineTooLong"]

MAX_COMMAND_LINE = 2048  # octets incl. CRLF: 512 (RFC 5321 4.5.3.1.4) and what each extension adds, with room
MAX_LOGIN_LINE = 12290  # octets incl. CRLF, for answers to a login challenge (RFC 4954 4)


class LineTooLong(Syntax):
    """Raised once for a line over its limit, when its end has come; the line is gone by then."""


class LineBuffer:
    """Octets waiting to be lines or content: `left` of them. Each is searched once, and copied a few times at most."""

    def __init__(self) -> None:
        self.left = 0
        self._data = b""
        self._at = 0  # what stands before it has been read
        self._searched = 0
        self._discarding = False

    def add(self, data: bytes) -> None:
        """More came in."""
        self._searched -= self._at
        self._data = self._data[self._at :] + data if self.left else data
        self._at, self.left = 0, len(self._data)
        self._searched = max(self._searched, 0) if self.left > len(data) else 0

    def take_all(self) -> bytes:
        """Everything not yet read, for content."""
        data = self._data[self._at :] if self._at else self._data
        self._data, self._at, self._searched, self.left = b"", 0, 0, 0
        return data

    def give_back(self, rest: bytes) -> None:
        """Put the octets after content back in front."""
        self._data, self._at, self._searched, self.left = rest, 0, 0, len(rest)

    def clear(self) -> None:
        """Forget everything (RFC 3207 4.2)."""
        self.give_back(b"")
        self._discarding = False

    def next_line(self, limit: int) -> bytes | None:
        """The next line with its CR LF, or None when more octets are needed.

        Raises LineTooLong for a line over `limit` octets, once its end has been seen.
        """
        if not self.left:
            return None
        data, at = self._data, self._at
        end = data.find(b"\r\n", self._searched)
        if end < 0:
            if self.left > limit:
                self._discarding = True
            if self._discarding:
                self.give_back(data[-1:])  # it may be the CR of the line's end
            self._searched = max(len(self._data) - 1, 0)
            return None
        self._at = self._searched = end + 2
        self.left = len(data) - end - 2
        if self._discarding or end + 2 - at > limit:
            self._discarding = False
            raise LineTooLong(f"a line of over {limit} octets")
        return data[at : end + 2]
