"""The dialogue of one session, each line with its time. Commands are masked: no secret is recorded."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import Protocol

from copper_kite.smtp import Masks, Reply, visible
from copper_kite.words import Stage

__all__ = ["CLIENT", "MAX_LINES", "NOTE", "SERVER", "SIGNS", "Dialogue"]

MAX_LINES = 500  # a peer's endless talk is cut here
MAX_TEXT = 1000  # characters of one line

CLIENT, SERVER, NOTE = "client", "server", "note"
SIGNS = {CLIENT: "C:", SERVER: "S:", NOTE: "--", ">": "C:", "<": "S:", "*": "--"}  # the last three: of earlier releases


class Staged(Protocol):
    """The lines of both sides of a session."""

    address: str
    stage: Stage


@dataclass(slots=True)
class Dialogue:
    """Lines as (seconds since `began`, who, text): the client, the server, or a note on what happened."""

    began: float
    lines: list[tuple[float, str, str | bytes | Reply | tuple[str, tuple[object, ...]]]] = field(default_factory=list)

    next_hop: str = ""  # whom it is with, or is to be
    session: Staged | None = None  # it is of, once there is a connection
    masks: Masks | None = None  # of what was heard, once there are secrets that the other side knows

    def client_said(self, at: float, shown: str | bytes) -> None:
        """Commands of the client; `shown` is their masked form. `at` in seconds of the same clock as `began`."""
        self.lines.append((at, CLIENT, shown))

    def server_said(self, at: float, reply: Reply) -> None:
        """A reply of the server."""
        self.lines.append((at, SERVER, reply))

    def server_said_all(self, at: float, replies: Iterable[Reply]) -> None:
        """Replies of the server that came together."""
        self.lines += [(at, SERVER, reply) for reply in replies]

    def noted(self, at: float, text: str, *facts: object) -> None:
        """Something happened that was not said: a connection, a handshake, the content, an error.

        With `facts`, `text` has places for them, which are filled when somebody looks.
        """
        self.lines.append((at, NOTE, (text, facts) if facts else text))

    def mark(self) -> int:
        """A place to go back to."""
        return len(self.lines)

    def cut(self, mark: int) -> None:
        """Forget what came after `mark`: the messages of a session have nothing to do with each other."""
        del self.lines[mark:]

    def trim(self) -> None:
        """Forget the middle of what has become far too long to be shown."""
        if len(self.lines) > 4 * MAX_LINES:
            del self.lines[MAX_LINES : -2 * MAX_LINES]

    def export(self) -> list[list[object]]:
        """All lines as plain values, safe to store and to show."""
        out: list[list[object]] = []
        for at, mark, said in self.lines:
            if isinstance(said, tuple):
                texts = [said[0] % said[1]]
            elif isinstance(said, str):
                texts = [said]
            else:
                if isinstance(said, Reply) and self.masks is not None:
                    said = self.masks.reply(said)
                texts = (said if isinstance(said, bytes) else said.wire).decode("utf-8").splitlines()
            out += [[round(at - self.began, 4), mark, visible(text)[:MAX_TEXT]] for text in texts]
        if len(out) > MAX_LINES:
            out = [*out[: MAX_LINES - 1], [out[-1][0], NOTE, f"… {len(out) - MAX_LINES + 1} more lines"]]
        return out
