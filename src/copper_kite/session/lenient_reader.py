"""Content parsed as careless servers parse it: only for stand-ins that demonstrate smuggling."""

from __future__ import annotations

import re

from copper_kite.smtp import ContentReader, Takes

__all__ = ["LenientReader"]

_ANY_END = re.compile(rb"(?:\A|\r\n|\n|\r)\.(?:\r\n|\n|\r(?!\n|\Z))")


class LenientReader(ContentReader):
    """Takes a line of one dot for the end whatever ends its lines, and mends bare CR and LF.

    The right reader takes CR LF . CR LF alone (RFC 5321 4.1.1.4).
    """

    def __init__(self, limit: int = 0, takes: Takes = Takes.FIT) -> None:
        super().__init__(limit, takes)
        self._all = b""

    @staticmethod
    def whole(data: bytes, limit: int) -> tuple[bytes, bool] | None:
        """Never: what the right reader takes for the end is not all that this one does."""
        return None

    def feed(self, data: bytes) -> tuple[bytes, bytes | None]:
        """As the right one; but all of it comes at once, at the end."""
        self._all += data
        match = _ANY_END.search(self._all)
        if match is None:
            return b"", None
        content, rest = self._all[: match.start()], self._all[match.end() :]
        content = b"\r\n".join(content.splitlines()) + b"\r\n" if content else b""
        self.size, self.ascii = len(content), content.isascii()
        return content.replace(b"\r\n.", b"\r\n"), rest
