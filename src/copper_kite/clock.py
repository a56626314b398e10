"""Time as a value that is passed in: the product never asks for it behind a test's back."""

from __future__ import annotations

import time
from typing import Protocol

__all__ = ["Clock", "SystemClock"]


class Clock(Protocol):
    """Where `now` comes from."""

    def now(self) -> float:
        """Seconds since 1970-01-01 UTC."""

    def real_delay(self, until: float) -> float:
        """How long to sleep, in seconds of the machine, until the clock shows `until`; 0 when it is past."""


class SystemClock:
    """The machine's own time."""

    def now(self) -> float:
        """Seconds since 1970-01-01 UTC."""
        return time.time()

    def real_delay(self, until: float) -> float:
        """Seconds until `until`."""
        return max(0.0, until - time.time())
