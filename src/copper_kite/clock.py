"""Time as a value that is passed in, so that tests control it."""

from __future__ import annotations

import time
from typing import Protocol

__all__ = ["Clock", "SystemClock", "has_date", "span_text"]

TOGETHER = 0.5  # seconds
_STEADY = getattr(time, "CLOCK_BOOTTIME", time.CLOCK_MONOTONIC)


class Clock(Protocol):
    """The source of `now`."""

    def now(self) -> float:
        """Seconds since 1970-01-01 UTC."""

    def steady(self) -> float:
        """Seconds of a clock that goes as this one does, but is never set."""

    def apart(self) -> float:
        """How many seconds this clock is ahead of that one: constant until the clock is set."""

    def real_delay(self, until: float) -> float:
        """How long to sleep, in seconds of the machine, until the clock shows `until`; 0 when it is past."""


class SystemClock:
    """The machine's own time."""

    now = staticmethod(time.time)

    def steady(self) -> float:
        """Seconds since the machine started, those in which it slept included."""
        return time.clock_gettime(_STEADY)

    def apart(self) -> float:
        """Seconds from the machine's start to 1970, and back."""
        while True:
            before = time.clock_gettime(_STEADY)
            now = time.time()
            if time.clock_gettime(_STEADY) - before < TOGETHER:  # else it was not at one instant
                return now - before

    def real_delay(self, until: float) -> float:
        """Seconds until `until`."""
        return max(0.0, until - time.time())


def has_date(at: float) -> bool:
    """Whether an instant falls, in every time zone, into the years 1 to 9999: a date that others wrote may not."""
    return -62135510400.0 <= at < 253402214400.0


def span_text(seconds: float, between: str = "") -> str:
    """A span in its two largest units, as in `1h5m`."""
    left = max(int(seconds), 0)
    parts: list[str] = []
    for unit, length in (("d", 86400), ("h", 3600), ("m", 60), ("s", 1)):
        count, left = divmod(left, length)
        if count or (unit == "s" and not parts):
            parts.append(f"{count}{unit}")
    return between.join(parts[:2])
