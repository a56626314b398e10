"""An event loop whose time passes at no cost: when nothing is to be done, its clock jumps to the next timer."""

from __future__ import annotations

import asyncio
import math
from asyncio import events
from collections import deque
from collections.abc import Callable, Coroutine
from heapq import heappop, heappush
from typing import Any

__all__ = ["SimulatedClock", "SimulatedLoop"]


class _Call(asyncio.TimerHandle):
    """A callback that can be cancelled. It keeps no context: everything runs in that of the caller."""

    __slots__ = ("args", "call", "cancelled_already")

    def __init__(self, call: Callable[..., object], args: tuple[Any, ...]) -> None:  # nothing of a handle is needed
        self.call = call
        self.args = args
        self.cancelled_already = False

    def cancel(self) -> None:
        self.cancelled_already = True

    def cancelled(self) -> bool:
        return self.cancelled_already

    def __del__(self) -> None:
        """There is nothing to release."""


class SimulatedLoop(asyncio.AbstractEventLoop):
    """Runs callbacks, timers, futures and tasks; no sockets, no threads. Its clock shows seconds since 1970."""

    def __init__(self, now: float) -> None:
        self.now = now
        self._ready: deque[_Call] = deque()
        # A heap: when, a number (timers of one instant are called in the order in which they were set), the callback
        # with its arguments, and the handle that may have cancelled it, where somebody has one.
        self._timers: list[tuple[float, int, Callable[..., object], tuple[Any, ...], _Call | None]] = []
        self._number = 0
        self._source: tuple[float, Callable[[], object]] | None = None
        self.faults: list[dict[str, Any]] = []

    def run(self, until: float = math.inf, stop: Callable[[], bool] | None = None) -> None:
        """Go on until that instant, until nothing is left to do, or until `stop` says so after an instant."""
        events._set_running_loop(self)
        ready, timers = self._ready, self._timers
        try:
            while timers or ready or self._source:
                while ready:
                    item = ready.popleft()
                    if not item.cancelled_already:
                        item.call(*item.args)
                source = self._source
                first = timers[0][0] if timers else math.inf
                if source is not None and source[0] <= first and source[0] <= until:
                    self.now, self._source = source[0], None
                    source[1]()
                    continue
                if not timers or first > until or (stop is not None and stop()):
                    return
                at, _, call, args, handle = heappop(timers)
                if handle is None or not handle.cancelled_already:
                    if at > self.now:
                        self.now = at
                    call(*args)
        finally:
            events._set_running_loop(None)

    def at(self, when: float, call: Callable[..., object], *args: Any) -> None:
        """Call at an instant; it cannot be cancelled."""
        self._number = number = self._number + 1
        heappush(self._timers, (when, number, call, args, None))

    def come(self, when: float, call: Callable[[], object]) -> None:
        """Call at an instant. There is one such call at a time, for what comes in one after the other; it costs less
        than a timer."""
        self._source = when, call

    # --- what asyncio asks of a loop ----------------------------------------------------------------------------------

    def time(self) -> float:
        return self.now

    def call_soon(self, callback: Callable[..., object], *args: Any, context: Any = None) -> _Call:  # type: ignore[override]
        item = _Call(callback, args)
        self._ready.append(item)
        return item

    def call_later(self, delay: float, callback: Callable[..., object], *args: Any, context: Any = None) -> _Call:  # type: ignore[override]
        return self.call_at(self.now + delay, callback, *args)

    def call_at(self, when: float, callback: Callable[..., object], *args: Any, context: Any = None) -> _Call:  # type: ignore[override]
        item = _Call(callback, args)
        self._number = number = self._number + 1
        heappush(self._timers, (when, number, callback, args, item))
        return item

    def create_future(self) -> asyncio.Future[Any]:
        return asyncio.Future(loop=self)

    def create_task(self, coro: Coroutine[Any, Any, Any], **_: Any) -> asyncio.Task[Any]:  # type: ignore[override]
        return asyncio.Task(coro, loop=self)

    def call_exception_handler(self, context: dict[str, Any]) -> None:
        self.faults.append(context)

    def get_debug(self) -> bool:
        return False

    def is_running(self) -> bool:
        return True

    def is_closed(self) -> bool:
        return False


class SimulatedClock:
    """The time of a simulated loop, as the clock of a server."""

    def __init__(self, loop: SimulatedLoop) -> None:
        self._loop = loop

    def now(self) -> float:
        """Seconds since 1970-01-01 UTC."""
        return self._loop.now

    def steady(self) -> float:
        """The same: nobody sets this clock."""
        return self._loop.now

    def apart(self) -> float:
        """Always alike."""
        return 0.0

    def real_delay(self, until: float) -> float:
        """Seconds until `until`."""
        return max(0.0, until - self._loop.now)
