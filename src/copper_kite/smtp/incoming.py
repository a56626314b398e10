"""Readers of input that is no command line: content after DATA, a chunk, an unwanted chunk.

Each of the three reads from the session's buffer and says what it found: a portion of the message, its end, a fault,
the reply that is due after a chunk, or None when octets are missing. All but a portion end it.
"""

from __future__ import annotations

from typing import Protocol

from copper_kite.smtp import events
from copper_kite.smtp.answers import CHUNK_TAKEN
from copper_kite.smtp.content import BadContent, ChunkReader, ContentReader, Takes
from copper_kite.smtp.lines import LineBuffer
from copper_kite.smtp.replies import Reply

__all__ = ["AfterData", "Chunk", "Found", "Incoming", "Unwanted"]

Found = events.Content | events.ContentEnded | BadContent | Reply


class Incoming(Protocol):
    """One of the three."""

    def read(self, lines: LineBuffer) -> Found | None:
        """Read on."""

    def whole(self, data: bytes) -> events.ContentEnded | None:
        """The whole message, when `data` is all of it and all is well; None: only `read` can tell."""


class AfterData:
    """Content after DATA, up to its true end (RFC 5321 4.1.1.4); then it is ready for the next."""

    def __init__(self, kind: type[ContentReader], limit: int, takes: Takes) -> None:
        self._kind = kind
        self._limit = limit
        self._takes = takes
        self._reader: ContentReader | None = None  # once the first octets have come

    def whole(self, data: bytes) -> events.ContentEnded | None:
        """The message, as most come."""
        result = self._kind.whole(data, self._limit) if self._reader is None else None
        return None if result is None else events.ContentEnded(result[0], len(result[0]), result[1])

    def read(self, lines: LineBuffer) -> Found | None:
        """Read on in the content."""
        data = lines.take_all()
        if not data:
            return None
        reader = self._reader
        if reader is None:
            reader = self._reader = self._kind(self._limit, self._takes)
        portion, rest = reader.feed(data)
        if rest is None:
            return events.Content(portion) if portion else None
        if rest:
            lines.give_back(rest)
        self._reader = None
        return reader.bad or events.ContentEnded(portion, reader.size, reader.ascii, reader.form)


class Chunk:
    """One chunk of a message (RFC 3030 2); the `reader` has begun it, and goes on with the next."""

    def __init__(self, reader: ChunkReader) -> None:
        self._reader = reader
        self._whole = False

    def whole(self, data: bytes) -> events.ContentEnded | None:
        """Never: what `read` does is as quick."""
        return None

    def read(self, lines: LineBuffer) -> Found | None:
        """Read on in the chunk."""
        if self._whole:
            return CHUNK_TAKEN
        reader = self._reader
        portion, rest = reader.feed(lines.take_all())
        if rest is None:
            return events.Content(portion) if portion else None
        lines.give_back(rest)
        if reader.bad is not None:
            return reader.bad
        if reader.last:
            return events.ContentEnded(portion, reader.size, reader.ascii, reader.form)
        self._whole = True
        return events.Content(portion) if portion else CHUNK_TAKEN


class Unwanted:
    """A chunk of so many `octets` that are thrown away; `reply` says why (RFC 3030 2)."""

    def __init__(self, octets: int, reply: Reply) -> None:
        self._left = octets
        self._reply = reply

    def whole(self, data: bytes) -> events.ContentEnded | None:
        """Never: there is no message."""
        return None

    def read(self, lines: LineBuffer) -> Found | None:
        """Throw away what is there."""
        data = lines.take_all()
        lines.give_back(data[self._left :])
        self._left -= len(data)
        return None if self._left > 0 else self._reply
