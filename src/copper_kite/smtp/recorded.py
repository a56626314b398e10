"""A session that reports its dialogue without secrets, so that successful sessions can be recorded, too."""

from __future__ import annotations

from collections.abc import Callable

from copper_kite.smtp import events
from copper_kite.smtp.extensions import Offers
from copper_kite.smtp.incoming import Found
from copper_kite.smtp.limits import Limits
from copper_kite.smtp.lines import LineBuffer
from copper_kite.smtp.masks import MASK
from copper_kite.smtp.order import Phase
from copper_kite.smtp.replies import Reply
from copper_kite.smtp.sasl import Directory
from copper_kite.smtp.server import COMMANDS, Server

__all__ = ["RecordedServer"]


class _Told(LineBuffer):
    """Tells each line that is read from it."""

    def __init__(self, tell: Callable[[bytes], None]) -> None:
        super().__init__()
        self._tell = tell

    def next_line(self, limit: int) -> bytes | None:
        """As any buffer does. Raises LineTooLong."""
        line = super().next_line(limit)
        if line is not None:
            self._tell(line)
        return line


def _masked(text: str) -> str:
    """A command without a login in it. What is no command may be one: a client may go on after AUTH was refused."""
    verb, space, argument = text.partition(" ")
    if verb.upper() not in COMMANDS:
        return MASK
    if verb.upper() != "AUTH":
        return text
    mechanism, more, _ = argument.partition(" ")
    return f"{verb}{space}{mechanism}{more}{MASK if more else ''}"


class RecordedServer(Server):
    """A session as any other; `heard` is called with each command, masked, `said` with each reply, `noted` with what
    was not said as a line: content."""

    def __init__(
        self,
        name: str,
        offers: Offers,
        limits: Limits | None,
        directory: Directory | None,
        heard: Callable[[str], None],
        said: Callable[[Reply], None],
        noted: Callable[[str], None],
    ) -> None:
        super().__init__(name, offers, limits, directory)
        self._lines = _Told(self._tell_line)
        self._heard, self._said, self._noted = heard, said, noted

    def _whole(self, data: bytes) -> events.Event | None:
        """Everything goes by the buffer, which tells."""
        return None

    def _tell_line(self, line: bytes) -> None:
        text = line[:-2].decode("utf-8", "replace")
        self._heard(("*" if text == "*" else MASK) if self.phase is Phase.LOGIN else _masked(text))

    def _say(self, reply: Reply) -> None:
        super()._say(reply)
        self._said(reply)

    def _challenge(self, data: bytes) -> None:
        super()._challenge(data)
        self._said(Reply(334, "", MASK))

    def _came_in(self, result: Found) -> events.Event | None:
        if isinstance(result, events.ContentEnded):
            self._noted(f"content heard, {result.size} octets")
        return super()._came_in(result)
