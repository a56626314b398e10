"""What a running server is doing at this moment, for whoever asks: a small file in the data folder.

Unlike the queue it is no record: it is not synced, it goes when the server stops, and a server that cannot write it
goes on all the same.
"""

from __future__ import annotations

import contextlib
import json
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from pathlib import Path

__all__ = ["LaneNow", "read_live", "remove_live", "write_live"]

NAME = "live.json"


@dataclass(frozen=True, slots=True)
class LaneNow:
    """A lane at this moment: its sessions that are open, that it may have now, and that its settings allow.

    `domain` is empty but for a connector that uses MX.
    """

    connector: str
    domain: str
    open: int
    allowed: int
    most: int


def write_live(folder: Path, lanes: Sequence[LaneNow]) -> None:
    """Put the file into `folder`, whole."""
    fresh = folder / f".{NAME}"
    with contextlib.suppress(OSError):
        fresh.touch(mode=0o600)
        fresh.write_text(json.dumps({"lanes": [asdict(lane) for lane in lanes]}))
        fresh.replace(folder / NAME)


def read_live(folder: Path) -> list[LaneNow]:
    """The lanes at this moment; none when no server runs, or nothing is known of it."""
    try:
        return [LaneNow(**lane) for lane in json.loads((folder / NAME).read_text())["lanes"]]
    except (OSError, ValueError, KeyError, TypeError):
        return []


def remove_live(folder: Path) -> None:
    """The server stops."""
    with contextlib.suppress(OSError):
        (folder / NAME).unlink(missing_ok=True)
