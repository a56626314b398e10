"""The current activity of a running server: a small file in the data folder that commands read.

Unlike the queue it is no record: it is not synced, it goes when the server stops, and a server that cannot write it
continues without it.
"""

from __future__ import annotations

import contextlib
import json
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any, NamedTuple

from copper_kite.store.files import put_file

__all__ = ["AttemptNow", "DownNow", "LaneNow", "read_live", "remove_live", "write_live"]

NAME = "live.json"


class AttemptNow(NamedTuple):
    """A running attempt: its message (0 while a session is opened), its start, next hop and present stage.
    `address` is empty until there is a connection. `since` in seconds since 1970."""

    message: int
    since: float
    next_hop: str
    address: str
    stage: str


class DownNow(NamedTuple):
    """A next hop that is unreachable: since when, when it is tried again (seconds since 1970), where it stopped,
    and what it said."""

    next_hop: str
    address: str
    since: float
    until: float
    stage: str
    cause: str
    said: str


@dataclass(frozen=True, slots=True)
class LaneNow:
    """A lane at this moment: its sessions that are open, that it may have now, and that its settings allow; its next
    hops that are `down`, and the `attempts` that run.

    `domain` is empty but for a connector that uses MX.
    """

    connector: str
    domain: str
    open: int
    allowed: int
    most: int
    down: tuple[DownNow, ...] = ()
    attempts: tuple[AttemptNow, ...] = ()


def write_live(folder: Path, lanes: Sequence[LaneNow]) -> None:
    """Put the file into `folder`, whole."""
    text = json.dumps({"lanes": [[getattr(lane, name) for name in LaneNow.__slots__] for lane in lanes]})
    with contextlib.suppress(OSError):
        put_file(folder / NAME, text)


def read_live(folder: Path) -> list[LaneNow]:
    """The lanes at this moment; none when no server runs, or nothing is known of it."""
    try:
        return [_lane(*lane) for lane in json.loads((folder / NAME).read_text())["lanes"]]
    except (OSError, ValueError, KeyError, TypeError):
        return []


def _lane(
    connector: str, domain: str, open: int, allowed: int, most: int, down: list[list[Any]], attempts: list[list[Any]]
) -> LaneNow:
    hops, running = map(DownNow._make, down), map(AttemptNow._make, attempts)
    return LaneNow(connector, domain, open, allowed, most, tuple(hops), tuple(running))


def remove_live(folder: Path) -> None:
    """The server stops."""
    with contextlib.suppress(OSError):
        (folder / NAME).unlink(missing_ok=True)
