"""Content after DATA or BDAT: dot transparency and the one true end (RFC 5321 4.1.1.4, 4.5.2), chunks (RFC 3030).

Only CR LF . CR LF ends content. Every other sequence that some other program might take for the end holds a CR or an
LF on its own; content with one is read to its true end and then refused, so nothing can be smuggled past us. What a
listener takes all the same, since it can be mended, `Takes` says.
"""

from __future__ import annotations

import re
from enum import Enum, IntFlag, StrEnum
from io import IncrementalNewlineDecoder
from typing import NamedTuple

__all__ = [
    "MAX_TEXT_LINE",
    "BadContent",
    "ChunkReader",
    "ContentReader",
    "Fault",
    "Form",
    "Takes",
    "local_line_ends",
    "stuff",
]

MAX_TEXT_LINE = 998  # octets without CRLF, RFC 5321 4.5.3.1.6, RFC 5322 2.1.1
_END = b"\r\n.\r\n"
_LEAP = MAX_TEXT_LINE + 1  # from the LF of one line to the CR of the next
_ONLY_CRLF = (None, "\r\n")
_LONE_LF = re.compile(rb"(?<!\r)\n")
_LONE_CR = re.compile(rb"\r(?!\n)")
_BARE = re.compile(r"\r(?!\n)|(?<!\r)\n")


class Fault(StrEnum):
    """Why content is refused. Reported once, after the end of the data."""

    BARE_LINE_END = "a CR or LF on its own"
    NUL = "a NUL octet"
    LONG_LINE = f"a line of over {MAX_TEXT_LINE} octets"
    TOO_LARGE = "more octets than SIZE allows"


class Form(IntFlag):
    """The defects of content that are mended on its way out (RFC 6409 8)."""

    FIT = 0
    LONG_LINES = 1
    NUL = 2


class Takes(Enum):
    """The content accepted from a client."""

    FIT = "content as it may leave, and nothing else"
    MENDABLE = "long lines and NUL, too"
    LOCAL = "these, and a CR or LF on its own, which is a line end"  # nobody smuggles past himself


class BadContent(NamedTuple):
    """Why content cannot be taken, and the line where that shows; 0 where it is in none."""

    fault: Fault
    line: int


def _held_back(data: bytes) -> int:
    """How many octets at the end of `data` may be the start of the end of content."""
    for length in (4, 3, 2, 1):
        if data.endswith(_END[:length]):
            return length
    return 0


def _look(text: str, line: int) -> Fault | int:
    """The fault of a portion that never ends inside a CR LF; else the octets of the line it leaves open.

    `text` has a character for each octet; `line` octets of its first line were in the portion before.
    """
    # Each check is one pass of C code over the whole portion: a loop over lines in Python costs more than all else that
    # is done with a message. For the longest line, only every 1,000th octet or so is looked at: from the last line end
    # that a line may have, leap as far as the next may be; where there is none within the leap, a line is too long.
    if "\0" in text:
        return Fault.NUL
    ends = IncrementalNewlineDecoder(None, False)  # it notes which kinds of line end there are, in one pass
    ends.decode(text, True)
    if ends.newlines not in _ONLY_CRLF:
        return Fault.BARE_LINE_END
    length, rfind = len(text), text.rfind
    end = rfind("\n", 0, MAX_TEXT_LINE + 2 - line)  # leap to the last LF that a line from here may have
    if end < 0:
        return Fault.LONG_LINE if line + length > MAX_TEXT_LINE else line + length
    while length - end > _LEAP:
        start = end
        end = rfind("\n", start, start + _LEAP + 2)
        if end == start:
            return Fault.LONG_LINE
    return length - rfind("\n", end) - 1


class _Checked:
    """The message's octets, counted and checked; `limit` is in octets, 0 for none.

    `size` counts the message: with CRLFs, without stuffed dots and the final dot (RFC 1870 5). `form` is what is to be
    mended. After `bad` is set, nothing more is returned, but reading goes on to the true end.
    """

    def __init__(self, limit: int = 0, takes: Takes = Takes.FIT) -> None:
        self._limit = limit
        self._takes = takes
        self._lines = 0  # whole ones in the portions before
        self._in_header = takes is Takes.LOCAL  # where that matters
        self._tail = b""  # of the portion before
        self._held = b""
        self._line = 0  # octets of the line that the last portion left open
        self.size = 0
        self.bad: BadContent | None = None
        self.form = Form.FIT
        self.ascii = True

    @property
    def fault(self) -> Fault | None:
        """Why it cannot be taken."""
        return self.bad.fault if self.bad is not None else None

    def _passed(self, data: bytes) -> bytes:
        """One portion, which never ends inside a CR LF, if all is well until its end."""
        self.size += len(data)
        if self.bad is not None:
            return b""
        text = data.decode("latin-1")
        if self.size > self._limit > 0:
            result: Fault | int = Fault.TOO_LARGE
        elif self._line > MAX_TEXT_LINE:
            result = Fault.LONG_LINE
        else:
            result = _look(text, self._line)
        if isinstance(result, Fault) and result is not Fault.TOO_LARGE and self._takes is not Takes.FIT:
            data, result = self._taken_anyway(data, text)
        if isinstance(result, Fault):
            bare = _BARE.search(text) if result is Fault.BARE_LINE_END else None
            line = 0 if bare is None else self._lines + text.count("\r\n", 0, bare.start()) + 1
            self.bad = BadContent(result, line)
            return b""
        self._line = result
        self._lines += data.count(b"\r\n")
        if self._in_header:
            self._in_header = b"\r\n\r\n" not in self._tail + data
            self._tail = (self._tail + data)[-3:]
        self.ascii = self.ascii and text.isascii()
        return data

    def _taken_anyway(self, data: bytes, text: str) -> tuple[bytes, Fault | int]:
        """A portion that is not as it may leave, and the octets of the line it leaves open; or what is not taken."""
        if "\0" in text:
            self.form |= Form.NUL
        if _BARE.search(text) is not None:
            if self._takes is not Takes.LOCAL:
                return data, Fault.BARE_LINE_END
            mended = local_line_ends(data, in_header=self._in_header, before=self._tail)
            self.size += len(mended) - len(data)
            data = mended
        lengths = [len(line) for line in data.split(b"\r\n")]
        lengths[0] += self._line
        if max(lengths) > MAX_TEXT_LINE:
            self.form |= Form.LONG_LINES
        return data, lengths[-1]


class ContentReader(_Checked):
    """Turns what comes after DATA into the message's octets."""

    def __init__(self, limit: int = 0, takes: Takes = Takes.FIT) -> None:
        super().__init__(limit, takes)
        self._started = False

    @staticmethod
    def whole(data: bytes, limit: int) -> tuple[bytes, bool] | None:
        """The message's octets, when `data` is all of it and all is well, as mostly, and whether they are ASCII.

        None: only `feed` can tell.
        """
        if not data.endswith(_END) or data.startswith(b"."):
            return None
        octets = data[:-3]
        if octets.rfind(b"\r\n.") >= 0:  # before the one at the end
            if octets.find(_END) >= 0:
                return None
            octets = octets.replace(b"\r\n.", b"\r\n")
        text = octets.decode("latin-1")
        if _look(text, 0) != 0 or len(octets) > limit > 0:
            return None
        return octets, text.isascii()

    def feed(self, data: bytes) -> tuple[bytes, bytes | None]:
        """Take octets; return the message's octets found in them, and what stands after the end (None before it)."""
        # RFC 5321 4.1.1.4: the one end is CR LF . CR LF. Up to four octets that may be its beginning are held back from
        # each portion, so that it is found across two, and no portion ends between a CR and its LF. Nothing else ends
        # content, whatever other servers take for an end: that difference is what smuggling lives on.
        if self._held:
            data = self._held + data
        if not self._started and data.startswith(b".\r\n"):
            return b"", data[3:]  # the CR LF of the DATA line counts as the first one
        dot = data.find(b"\r\n.")  # mostly the only one: then the search for the end is the search for stuffed dots
        end = dot if data[dot + 3 : dot + 5] == b"\r\n" else data.find(_END, dot) if dot >= 0 else -1
        if end >= 0:
            return self._take(data[: end + 2], dot < end), data[end + 5 :]
        held = len(data) if not self._started and b".\r\n".startswith(data) else _held_back(data)
        cut = len(data) - held
        self._held = data[cut:]
        return (self._take(data[:cut], dot >= 0) if cut else b""), None

    def _take(self, data: bytes, dots: bool) -> bytes:
        """Unstuff (when there may be `dots` to) and check one portion, which never ends inside a CR LF."""
        if not self._started:
            self._started = True
            if data.startswith(b"."):
                data = data[1:]
        if dots:
            data = data.replace(b"\r\n.", b"\r\n")
        return self._passed(data)


class ChunkReader(_Checked):
    """Turns what comes in chunks after BDAT into the message's octets (RFC 3030 2).

    `begin` each chunk, then `feed`. Octets mean themselves here: no dot is stuffed, no sequence ends anything.
    """

    def __init__(self, limit: int = 0, takes: Takes = Takes.FIT) -> None:
        super().__init__(limit, takes)
        self._left = 0
        self.last = False

    def begin(self, octets: int, *, last: bool) -> None:
        """The next chunk has so many `octets`."""
        self._left, self.last = octets, last

    def feed(self, data: bytes) -> tuple[bytes, bytes | None]:
        """Take octets; return the message's octets found in them, and what stands after the chunk (None before it).

        A message gets the CR LF at its end that it may lack, so that it can leave after DATA, too.
        """
        # Chunks may be cut anywhere, between a CR and its LF as well: a CR at the end of one waits for what follows.
        rest = data[self._left :] if len(data) >= self._left else None
        data = data[: self._left]
        self._left -= len(data)
        data = self._held + data
        self._held = b""
        if rest is not None and self.last:
            if (data and not data.endswith(b"\r\n")) or (not data and self._line):
                data += b"\r\n"
        elif data.endswith(b"\r"):
            data, self._held = data[:-1], b"\r"
        return (self._passed(data) if data else b""), rest


def local_line_ends(data: bytes, *, in_header: bool = True, before: bytes = b"") -> bytes:
    """A CR or LF on its own as the line end that it is meant to be; but a CR in a header, which may be somebody's
    attempt to begin a field in the value of another, is a blank. `before` are the last octets before these."""
    data = _LONE_LF.sub(b"\r\n", data)
    end = 0
    if in_header:
        blank = (before + data).find(b"\r\n\r\n")
        end = len(data) if blank < 0 else max(0, blank - len(before))
    return _LONE_CR.sub(b" ", data[:end]) + _LONE_CR.sub(b"\r\n", data[end:])


def stuff(data: bytes, *, line_start: bool) -> bytes:
    """A portion of content as it goes on the wire. `line_start`: it begins a line.

    A portion must not end between a CR and its LF; the last one ends with CR LF, and `.` CR LF follows it.
    """
    if data.rfind(b"\r\n.") >= 0:  # which finds that there is none twice as fast as `find`
        data = data.replace(b"\r\n.", b"\r\n..")
    return b"." + data if line_start and data.startswith(b".") else data
