"""Replies: one value for both sides, and the reader that puts them together from octets (RFC 5321 4.2)."""

from __future__ import annotations

import re
from collections import deque
from functools import lru_cache

from copper_kite.errors import ProtocolViolation

__all__ = ["MAX_REPLY_LINE", "MAX_REPLY_LINES", "Reply", "ReplyReader", "printable", "split_reply", "visible"]

MAX_REPLY_LINE = 512  # octets incl. CRLF that we send, RFC 5321 4.5.3.1.5
MAX_HEARD_LINE = 4096  # octets that we take: peers exceed the limit, and only the code counts
MAX_REPLY_LINES = 200  # an endless `250-` is cut here
MAX_REPLIES = 5000  # that wait to be read; the largest group of commands has a thousand

_LINE = re.compile(rb"([2-5]\d\d)(?:([ -])(.*))?", re.DOTALL)
_ENHANCED = re.compile(r"([245]\.\d{1,3}\.\d{1,3})(?: |$)")  # RFC 3463 2
_UNPRINTABLE = re.compile(r"[^\x20-\x7e]")


def printable(text: str) -> str:
    """`text` with every octet that could harm a reply line, a log or a terminal shown as an escape."""
    return _UNPRINTABLE.sub(lambda match: ascii(match.group())[1:-1], text)


def visible(text: str) -> str:
    """`text` as a terminal or a log may have it: letters of all scripts stay, a tab is a blank, and what would
    steer the terminal is escaped."""
    if text.isprintable():
        return text
    return "".join(c if c.isprintable() else " " if c == "\t" else ascii(c)[1:-1] for c in text)


class Reply:
    """A reply: code, enhanced status code (or none) and its lines without codes, all as `text`. It never changes."""

    __slots__ = ("_wire", "code", "enhanced", "lines", "text")

    def __init__(self, code: int, enhanced: str, *lines: str) -> None:
        self.code = code
        self.enhanced = enhanced
        self.lines = lines or ("",)
        self.text = lines[0] if len(lines) == 1 else " ".join(filter(None, lines))
        self._wire = b""

    @property
    def wire(self) -> bytes:
        """The reply as octets; the enhanced code is repeated on each line (RFC 2034 4)."""
        if not self._wire:  # made when it is first asked for: most replies that are heard are never sent
            self._wire = self._encode()
        return self._wire

    def _encode(self) -> bytes:
        status = f"{self.enhanced} " if self.enhanced else ""
        first = self.lines[0]
        if len(self.lines) == 1 and len(first) < 400 and first.isascii() and first.isprintable():
            return f"{self.code} {status}{first}\r\n".encode("ascii")
        room = MAX_REPLY_LINE - 6 - len(status)
        last = len(self.lines) - 1
        return "".join(
            f"{self.code}{' ' if number == last else '-'}{status}{printable(line)[:room]}\r\n"
            for number, line in enumerate(self.lines)
        ).encode("ascii")

    def __eq__(self, other: object) -> bool:
        if not isinstance(other, Reply):
            return NotImplemented
        return (self.code, self.enhanced, self.lines) == (other.code, other.enhanced, other.lines)

    def __hash__(self) -> int:
        return hash((self.code, self.enhanced, self.lines))

    def __repr__(self) -> str:
        return f"Reply({self.code}, {self.enhanced!r}, {', '.join(map(repr, self.lines))})"

    @property
    def positive(self) -> bool:
        """Whether the command was taken: 2yz or 3yz (RFC 5321 4.2.1)."""
        return self.code < 400

    @property
    def permanent(self) -> bool:
        """Whether it was refused for good: 5yz. An unknown code counts by its first digit."""
        return self.code >= 500

    @classmethod
    def parse(cls, code: int, lines: list[str]) -> Reply:
        """A reply as heard: the enhanced code is taken from the text when its class agrees (RFC 2034 4)."""
        match = _ENHANCED.match(lines[0])
        enhanced = match.group(1) if match else ""
        if not enhanced:
            return cls(code, "", *lines)
        if enhanced[0] != str(code)[0]:
            return cls(code, "", *lines)  # the basic code decides; the text keeps what was said
        prefix = enhanced + " "
        return cls(code, enhanced, *[line.removeprefix(prefix) if line != enhanced else "" for line in lines])

    def __str__(self) -> str:
        text = self.text
        if self.enhanced and text:
            return f"{self.code} {self.enhanced} {text}"
        return " ".join(filter(None, (str(self.code), self.enhanced, text)))


@lru_cache(maxsize=256)
def _one_line(line: bytes) -> Reply:
    """A reply of one line without its LF; servers say the same few over and over. Raises ValueError for other lines."""
    match = _LINE.fullmatch(line.removesuffix(b"\r")) if len(line) <= MAX_REPLY_LINE else None
    if match is None or match.group(2) == b"-":
        raise ValueError("not a reply by itself")
    return Reply.parse(int(match.group(1)), [(match.group(3) or b"").decode("utf-8", "replace")])


class ReplyReader:
    """Puts replies together from octets in any portions.

    A reader's `feed` never raises; `next` returns a reply, None when more octets are needed, or raises
    ProtocolViolation for what is no reply (RFC 5321 4.2). Memory is bounded by three limits.
    """

    def __init__(self) -> None:
        self._data = b""  # of a line that is not whole
        self._code: int | None = None
        self._lines: list[str] = []  # of a reply that is not whole
        self._whole: deque[Reply] = deque()
        self._broken: ProtocolViolation | None = None  # nothing after it is read

    @property
    def pending(self) -> bytes:
        """Octets that are not part of a reply that `next` has given."""
        broken = self._broken.heard if self._broken is not None else b""
        return b"".join([*(reply.wire for reply in self._whole), broken, self._data])

    @property
    def has_any(self) -> bool:
        """Whether anything has come in that `next` has not given, whole or not."""
        return bool(self._whole) or self.has_rest

    @property
    def has_rest(self) -> bool:
        """Whether anything has come in after the whole replies: the beginning of one, or what is none."""
        return bool(self._data or self._lines or self._broken)

    @property
    def closes(self) -> bool:
        """Whether all that has come in is a 421, or may become one: the server is closing (RFC 5321 3.8)."""
        if self._whole:
            return self._whole[0].code == 421
        if self._broken is not None:
            return False
        return self._code == 421 if self._lines else b"421".startswith(self._data[:3])

    @property
    def begun(self) -> bytes:
        """Octets of a reply whose end has not come: its last line so far."""
        return self.pending or (self._lines[-1].encode() if self._lines else b"")

    def feed(self, data: bytes) -> None:
        """Take octets from the peer."""
        if self._broken is not None:
            return
        # Never raises: what is wrong shows when it is its turn, so that the replies before it still count. Most servers
        # say a few dozen different lines in all: whole one-line replies are looked up and not parsed again.
        *lines, self._data = (self._data + data if self._data else data).split(b"\n")
        if self._code is None:
            try:
                self._whole.extend([*map(_one_line, lines)])  # as nearly all replies come
                lines.clear()
            except ValueError:
                pass  # one of them is part of a longer reply, or none at all
        try:
            for line in lines:
                self._take_line(line.removesuffix(b"\r"))
            if len(self._data) > MAX_HEARD_LINE:
                raise ProtocolViolation(f"a reply line of over {MAX_HEARD_LINE} octets", self._data)
            if len(self._whole) > MAX_REPLIES:
                raise ProtocolViolation("far more replies than anything asked for", self._whole[-1].wire)
        except ProtocolViolation as error:
            self._broken = error

    @property
    def whole(self) -> deque[Reply]:
        """The replies that `next` will give, as far as they have come in."""
        return self._whole

    def clear(self) -> None:
        """Forget everything heard: what came before TLS counts for nothing after it (RFC 3207 4.2)."""
        self._data, self._code, self._lines, self._broken = b"", None, [], None
        self._whole.clear()

    def next(self) -> Reply | None:
        """The next whole reply, or None.

        Raises ProtocolViolation for a line that is no reply line, that is too long, for lines of one reply
        with differing codes, for a reply of too many lines, and for far too many replies at once.
        """
        if self._whole:
            return self._whole.popleft()
        if self._broken is not None:
            raise self._broken
        return None

    def _take_line(self, line: bytes) -> None:
        match = _LINE.fullmatch(line)
        if match is None or len(line) > MAX_HEARD_LINE:
            raise ProtocolViolation("not an SMTP reply", line)
        code = int(match.group(1))
        if self._code is not None and code != self._code:
            raise ProtocolViolation(f"one reply with the codes {self._code} and {code}", line)
        self._code = code
        self._lines.append((match.group(3) or b"").decode("utf-8", "replace"))
        if match.group(2) == b"-":
            if len(self._lines) >= MAX_REPLY_LINES:
                raise ProtocolViolation(f"a reply of over {MAX_REPLY_LINES} lines", line)
            return
        self._whole.append(Reply.parse(code, self._lines))
        self._code, self._lines = None, []


def split_reply(reply: str) -> tuple[str, str]:
    """`451 4.2.1 words` as (`451 4.2.1`, `words`)."""
    words = reply.split(" ", 2)
    if not words[0].isdigit():
        return "", reply
    if len(words) > 1 and words[1].count(".") == 2 and words[1].replace(".", "").isdigit():
        return " ".join(words[:2]), "".join(words[2:])
    return words[0], " ".join(words[1:])
