"""An event loop with real sockets whose time passes at no cost: a whole server and its stand-ins, days in seconds.

When nothing is ready, and no process that was asked for something still owes an answer, the clock jumps to the next
timer.
"""

from __future__ import annotations

import asyncio
import os
import selectors
from collections.abc import Callable
from typing import Any

from copper_kite.store import Writer

__all__ = ["JumpingClock", "JumpingLoop"]

OWED_SECONDS = 0.05  # of the machine, for which an answer is waited for at a time


class _Selector(selectors.DefaultSelector):  # type: ignore[misc, valid-type]
    loop: JumpingLoop

    def select(self, timeout: float | None = None) -> list[Any]:
        events: list[Any] = super().select(0)
        if timeout is not None and timeout <= 0:
            return events
        while not events and self.loop.owed():
            events = super().select(OWED_SECONDS)
        if not events:
            os.sched_yield()  # the kernel delivers on the loopback at once, or when it has the processor next
            events = super().select(0)
        if not events:
            assert timeout is not None, "the loop waits for something that never comes"
            self.loop.now += timeout
        return events


class JumpingLoop(asyncio.SelectorEventLoop):
    """What a server's writer has not answered is waited for."""

    def __init__(self) -> None:
        self.now = 0.0
        self._writer: Writer | None = None
        selector = _Selector()
        selector.loop = self
        super().__init__(selector)

    def time(self) -> float:
        return self.now

    def owed(self) -> bool:
        """Whether the process that writes owes an answer."""
        return self._writer is not None and self._writer.waiting > 0

    def add_reader(self, fd: Any, callback: Callable[..., Any], *args: Any) -> None:
        if hasattr(fd, "answered"):
            self._writer = fd
        super().add_reader(fd, callback, *args)

    def remove_reader(self, fd: Any) -> bool:
        if fd is self._writer:
            self._writer = None
        return super().remove_reader(fd)

    async def run_in_executor(self, executor: Any, func: Callable[..., Any], *args: Any) -> Any:  # type: ignore[override]
        return func(*args)


class JumpingClock:
    """The loop's time as instants from `begin` on (seconds since 1970)."""

    def __init__(self, loop: JumpingLoop, begin: float) -> None:
        self._loop = loop
        self._begin = begin

    def now(self) -> float:
        return self._begin + self._loop.now

    def steady(self) -> float:
        return self._loop.now

    def apart(self) -> float:
        return self._begin

    def real_delay(self, until: float) -> float:
        return max(0.0, until - self.now())
