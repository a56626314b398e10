"""The connectors and listeners whose dialogues are kept for a while, on request: a file of the data folder.

A command writes it, a server reads it when it is told to, and when it starts.
"""

from __future__ import annotations

import json
from collections.abc import Iterable
from pathlib import Path
from typing import NamedTuple

from copper_kite.store.files import put_file

__all__ = ["Recording", "read_recordings", "write_recordings"]

NAME = "recordings.json"


class Recording(NamedTuple):
    """The dialogues of one connector or listener (`table`) are kept until an instant (seconds since 1970)."""

    table: str
    name: str
    until: float


def read_recordings(folder: Path, now: float) -> list[Recording]:
    """The recordings that are not over."""
    try:
        results = [Recording._make(item) for item in json.loads((folder / NAME).read_text())]
        return [item for item in results if item.until > now]
    except (OSError, ValueError, TypeError):
        return []


def write_recordings(folder: Path, recordings: Iterable[Recording]) -> None:
    """Put the file into `folder`, whole, as its owner's. Raises OSError."""
    put_file(folder / NAME, json.dumps(list(recordings)))
