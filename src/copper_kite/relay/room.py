"""Whether there is room for more: on the disk, and among what waits to be written."""

from __future__ import annotations

import shutil
import time
from collections.abc import Callable
from pathlib import Path
from typing import Protocol

from copper_kite.smtp.replies import Reply

__all__ = ["DISK_FULL", "Room"]

DISK_FULL = Reply(452, "4.3.1", "no room to keep the message; try again later")
BUSY = Reply(451, "4.3.2", "too much is being handed in at the moment; try again later")
LOOK_AGAIN = 1.0  # seconds for which what the disk said counts
MAX_WAITING = 2000  # changes on their way to the disk


class _Backlog(Protocol):
    """Whoever writes: how many changes are on their way to the disk, and how many octets of content went there."""

    waiting: int
    octets: int


class Room:
    """`keep_free` octets stay free for the queue to go on."""

    def __init__(self, folder: Path, backlog: _Backlog, short: Callable[[], None]) -> None:
        """`short` is called, once a second at most, when there is no room on the disk: it may make some."""
        self.keep_free = 0
        self._folder = folder
        self._backlog = backlog
        self._short = short
        self._free = 0  # where `octets` of the backlog would stand when the disk is full
        self._looked = float("-inf")

    def refusal(self, size: int | None) -> Reply | None:
        """Why a message of `size` octets (None: it was not said) cannot be taken now."""
        if self._backlog.waiting > MAX_WAITING:
            return BUSY
        now = time.monotonic()
        if now - self._looked > LOOK_AGAIN:
            self._looked = now
            self._free = shutil.disk_usage(self._folder).free + self._backlog.octets
            if self._free - self._backlog.octets < self.keep_free:
                self._short()
        return DISK_FULL if self._free - self._backlog.octets - (size or 0) < self.keep_free else None
