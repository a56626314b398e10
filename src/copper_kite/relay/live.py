"""Publishes what the lanes are doing, once a second at most and only as it changes."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

from copper_kite.relay.supervisor import Supervisor
from copper_kite.store import LaneNow, remove_live, write_live

__all__ = ["Publisher"]

EVERY_SECONDS = 1.0


class Publisher:
    """`lanes` gives the lanes that are worth showing."""

    def __init__(self, folder: Path, lanes: Callable[[], Sequence[LaneNow]], supervisor: Supervisor) -> None:
        self._folder = folder
        self._lanes = lanes
        self._written: Sequence[LaneNow] | None = None
        self._timer = supervisor.every(EVERY_SECONDS, self._publish, first=0.0)

    def _publish(self) -> None:
        lanes = self._lanes()
        if lanes != self._written:
            self._written = lanes
            write_live(self._folder, lanes)

    def stop(self) -> None:
        """Publish no more."""
        self._timer.cancel()
        remove_live(self._folder)
