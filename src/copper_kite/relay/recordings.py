"""The dialogues that are kept although all goes well: of which connectors and listeners, and how many."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

from copper_kite.net import Dialogue
from copper_kite.store import read_recordings

__all__ = ["MOST_DIALOGUES", "Recordings", "kept_lines"]

MOST_DIALOGUES = 1000  # of one connector or listener, from one command on
MOST_LINES = 200  # of one dialogue
MOST_TEXT = 300  # characters of a line


class Recordings:
    """The recordings that an administrator requested. `now` gives seconds since 1970."""

    def __init__(self, folder: Path, now: Callable[[], float]) -> None:
        self._folder = folder
        self._now = now
        self._until: dict[tuple[str, str], float] = {}
        self._left: dict[tuple[str, str], int] = {}
        self.read()

    def read(self) -> None:
        """Go by the file as it is now."""
        before = self._until
        self._until = {
            (recording.table, recording.name): recording.until
            for recording in read_recordings(self._folder, self._now())
        }
        self._left = {
            key: self._left[key] if before.get(key) == until else MOST_DIALOGUES for key, until in self._until.items()
        }

    def wants(self, table: str, name: str) -> bool:
        """Whether to keep the dialogues of a connector or listener now."""
        if not self._until:
            return False
        key = table, name
        return self._left.get(key, 0) > 0 and self._until[key] > self._now()

    def keeps(self, table: str, name: str) -> bool:
        """Whether to keep one more; if so, it is counted."""
        if not self.wants(table, name):
            return False
        self._left[table, name] -= 1
        return True


def kept_lines(dialogue: Dialogue) -> Sequence[Sequence[Any]]:
    """A dialogue as it is kept, which takes little room."""
    lines = dialogue.export()
    shown = lines if len(lines) <= MOST_LINES else [*lines[: MOST_LINES // 2], *lines[-MOST_LINES // 2 :]]
    return [[at, mark, str(text)[:MOST_TEXT]] for at, mark, text in shown]
