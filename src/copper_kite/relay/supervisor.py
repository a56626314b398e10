"""Runs the callbacks of the event loop: an exception in one is noted, and reaches nothing else.

A callback whose exception got out would be dropped by the loop with a traceback, and with it whatever it was to set up
next: a timer, an answer, the message after it. So callbacks and repeated work go through `Supervisor`, which notes what
they raise (`relay.faults`). Sessions and the jobs of lanes end by a way of their own, since they have somebody to tell.
"""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from typing import Any

from copper_kite.relay.faults import Faults
from copper_kite.relay.log import Log

__all__ = ["Repeated", "Supervisor"]

SHORTEST_SECONDS = 0.1
LONGEST_SECONDS = 60.0  # from one try to the next of what keeps failing


class Repeated:
    """A callback that is called again and again until it is cancelled."""

    def __init__(self) -> None:
        self._handle: asyncio.Handle | None = None
        self._cancelled = False

    def cancel(self) -> None:
        """Call it no more."""
        self._cancelled = True
        if self._handle is not None:
            self._handle.cancel()

    def _begin(self, loop: asyncio.AbstractEventLoop, seconds: float, call: Callable[[], object]) -> None:
        if not self._cancelled:
            self._handle = loop.call_later(seconds, call)


class Supervisor:
    """Runs callbacks and repeated work; each fault is noted once, with its traceback."""

    def __init__(self, log: Log) -> None:
        self._loop = asyncio.get_running_loop()
        self._faults = Faults(log)

    def note(self, error: BaseException, **facts: object) -> str:
        """Log an unexpected exception; the text that names it."""
        return self._faults.note(error, **facts)

    def run(self, call: Callable[[], object], **facts: object) -> bool:
        """Call now; whether it came back without an exception."""
        try:
            call()
        except Exception as error:
            self.note(error, **facts)
            return False
        return True

    def soon(self, call: Callable[[], object]) -> asyncio.Handle:
        """Call when the loop turns."""
        return self._loop.call_soon(self.run, call)

    def later(self, seconds: float, call: Callable[[], object]) -> asyncio.TimerHandle:
        """Call after `seconds`."""
        return self._loop.call_later(seconds, self.run, call)

    def every(self, seconds: float, call: Callable[[], object], first: float | None = None) -> Repeated:
        """Call every `seconds`, whatever it raises; for the first time after `first` seconds, if that is given."""
        repeated = Repeated()

        def turn() -> None:
            repeated._begin(self._loop, seconds, turn)
            self.run(call)

        repeated._begin(self._loop, seconds if first is None else first, turn)
        return repeated

    def until_done(self, call: Callable[[], object], seconds: float) -> None:
        """Call now, and while it raises again: after `seconds`, then twice as many each time, up to a minute."""
        if not self.run(call):
            self._loop.call_later(seconds, self.until_done, call, min(2 * seconds, LONGEST_SECONDS))

    def soon_until_done(self, call: Callable[[], object]) -> asyncio.Handle:
        """Call when the loop turns, and while it raises again."""
        return self._loop.call_soon(self.until_done, call, SHORTEST_SECONDS)

    def loop_fault(self, loop: asyncio.AbstractEventLoop, context: dict[str, Any]) -> None:
        """For `loop.set_exception_handler`: what got past all that, in a transport of the loop's own, say."""
        error = context.get("exception")
        if isinstance(error, Exception):
            self.note(error, about=str(context.get("message", "")))
