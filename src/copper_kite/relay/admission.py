"""Whether there is room for more on the disk, and whether the disk takes it.

How much is submitted at once needs no bound: each session waits until its message is written, so that many sessions are
slower, and none is turned away.
"""

from __future__ import annotations

import shutil
import time
from collections.abc import Callable
from pathlib import Path
from typing import Protocol

from copper_kite.smtp import Reply

__all__ = ["DISK_FULL", "AdmissionControl", "Reservation"]

DISK_FULL = Reply(452, "4.3.1", "no room to keep the message; try again later")
STALLED = Reply(451, "4.3.0", "the queue cannot be written at the moment; try again later")
LOOK_AGAIN = 1.0  # seconds for which what the disk said counts
LOOK_AGAIN_OCTETS = 8 * 1024 * 1024  # written since
UNSAID = 16 * 1024  # octets set aside beyond what was said: what we add, or all of a small message


class _Backlog(Protocol):
    """Whoever writes: since when (infinite: nothing is) something is on its way to the disk, on the clock of
    `time.monotonic`, and how many octets went there; those that are `settled` have arrived."""

    @property
    def begun(self) -> float: ...

    @property
    def octets(self) -> int: ...

    @property
    def settled(self) -> int: ...


class AdmissionControl:
    """`keep_free` octets stay free for the queue to go on.

    What a client says that its message has is set aside for it from then on, so that many at once cannot take the
    same room; what it did not say is asked for portion by portion.
    """

    def __init__(self, folder: Path, backlog: _Backlog, short: Callable[[], None]) -> None:
        """`short` is called, once a second at most, when there is no room on the disk: it may make some."""
        self.keep_free = 0
        self.longest_wait = 120.0  # seconds
        self.reserved = 0  # octets that were promised and have not gone to the store yet
        self._folder = folder
        self._backlog = backlog
        self._short = short
        self._free = 0  # where `octets` of the backlog would stand when the disk is full, or less
        self._looked = float("-inf")
        self._looked_at = 0  # `octets` of the backlog then

    def refusal(self, octets: int) -> Reply | None:
        """Why so many octets more cannot be taken now."""
        backlog, now = self._backlog, time.monotonic()
        if now - backlog.begun > self.longest_wait:
            return STALLED
        if now - self._looked > LOOK_AGAIN or backlog.octets - self._looked_at > LOOK_AGAIN_OCTETS:
            self._look()
        return DISK_FULL if self._free - backlog.octets - self.reserved - octets < self.keep_free else None

    def _look(self) -> None:
        self._looked, self._looked_at = time.monotonic(), self._backlog.octets
        try:
            self._free = shutil.disk_usage(self._folder).free + self._backlog.settled
        except OSError:  # the folder is gone: nothing can be kept there
            self._free = 0
        if self._free - self._backlog.octets - self.reserved < self.keep_free:
            self._short()


class Reservation:
    """The room reserved for the message that one session submits."""

    def __init__(self, room: AdmissionControl) -> None:
        self._room = room
        self._left = 0

    def begin(self, size: int | None) -> Reply | None:
        """Set aside what a message is said to have, or say why there is no room for it."""
        if self._left:
            self.end()
        octets = (size or 0) + UNSAID
        refusal = self._room.refusal(octets)
        if refusal is None:
            self._left = octets
            self._room.reserved += octets
        return refusal

    def need(self, octets: int) -> Reply | None:
        """So many are about to go to the store; where that is more than was said, there must be room for them."""
        more = octets - self._left
        if more <= 0:
            return None
        refusal = self._room.refusal(more)
        if refusal is None:
            self._left += more
            self._room.reserved += more
        return refusal

    def spent(self, octets: int) -> None:
        """So many have gone to the store: the disk has them now."""
        within = min(octets, self._left)
        self._left -= within
        self._room.reserved -= within

    def end(self) -> None:
        """The message has gone to the store, or will not."""
        self._room.reserved -= self._left
        self._left = 0
