"""Detects when something blocks the event loop, and where: no session is served meanwhile.

The loop leaves a mark every so often. A thread of its own looks at the mark, and when it is old, at where the loop's
thread stands at that moment: afterwards nobody could tell.
"""

from __future__ import annotations

import asyncio
import sys
import threading
import time
from collections.abc import Callable
from types import FrameType

from copper_kite.relay.faults import inner_path

__all__ = ["LagMonitor"]

LAG_SECONDS = 0.25
MARK_SECONDS = 0.05
MAX_PLACES = 100  # that are told; each once


class LagMonitor:
    """`told` is called in the loop for each call that blocked it: its place, and a lower bound in seconds."""

    def __init__(self, told: Callable[[str, float], object]) -> None:
        self._loop = asyncio.get_running_loop()
        self._told = told
        self._thread_of_loop = threading.get_ident()
        self._places: set[str] = set()
        self._mark = time.monotonic()
        self._timer = self._loop.call_later(MARK_SECONDS, self._leave_mark)
        self._stopped = threading.Event()
        self._thread = threading.Thread(target=self._watch, name="lag", daemon=True)
        self._thread.start()

    def stop(self) -> None:
        """Watch no more."""
        self._timer.cancel()
        self._stopped.set()
        self._thread.join()

    def _leave_mark(self) -> None:
        self._mark = time.monotonic()
        self._timer = self._loop.call_later(MARK_SECONDS, self._leave_mark)

    def _watch(self) -> None:
        while not self._stopped.wait(LAG_SECONDS / 2):
            mark = self._mark
            if time.monotonic() - mark > LAG_SECONDS:
                place = _place(sys._current_frames().get(self._thread_of_loop))
                while self._mark == mark and not self._stopped.wait(0.01):
                    pass
                self._note(place, time.monotonic() - mark)

    def _note(self, place: str, seconds: float) -> None:
        if self._stopped.is_set() or not place or place in self._places or len(self._places) >= MAX_PLACES:
            return
        self._places.add(place)
        self._loop.call_soon_threadsafe(self._told, place, seconds)


def _place(frame: FrameType | None) -> str:
    """The innermost line of our own code that the loop is in; empty when it is in none, as while it waits."""
    while frame is not None:
        if inner := inner_path(frame.f_code.co_filename):
            return f"{inner}:{frame.f_lineno} ({frame.f_code.co_name})"
        frame = frame.f_back
    return ""
