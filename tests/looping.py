"""The loop of tests that are coroutines: it looks after each of its turns whether what is awaited has happened.

Whatever a server or a stand-in in the same process does, it does in a turn of this loop: so nothing need be polled.
"""

from __future__ import annotations

import asyncio
import os
import time
from collections.abc import Callable

__all__ = ["SECONDS", "WatchingLoop", "happens", "happens_elsewhere"]

SECONDS = float(os.environ.get("KITE_TEST_SECONDS", "300"))  # after which what a test waits for counts as stuck


class WatchingLoop(asyncio.SelectorEventLoop):
    """A loop that knows what is awaited."""

    def __init__(self) -> None:
        super().__init__()
        self._awaited: list[tuple[Callable[[], object], asyncio.Future[None]]] = []

    def watch(self, holds: Callable[[], object]) -> asyncio.Future[None]:
        """Done when `holds` does, after a turn of the loop."""
        future: asyncio.Future[None] = self.create_future()
        self._awaited.append((holds, future))
        return future

    def _run_once(self) -> None:
        super()._run_once()  # type: ignore[misc]
        for awaited in self._awaited.copy():
            holds, future = awaited
            try:
                if not future.done() and holds():
                    future.set_result(None)
            except Exception as error:
                future.set_exception(error)
            if future.done():
                self._awaited.remove(awaited)


async def happens(holds: Callable[[], object]) -> None:
    """Wait until `holds()`. Raises TimeoutError."""
    if holds():
        return
    loop = asyncio.get_running_loop()
    assert isinstance(loop, WatchingLoop)
    async with asyncio.timeout(SECONDS):
        await loop.watch(holds)


def happens_elsewhere(holds: Callable[[], object]) -> None:
    """Wait until another process has done something, which only a look at its files tells. Raises TimeoutError."""
    end = time.monotonic() + SECONDS
    while not holds():
        if time.monotonic() > end:
            raise TimeoutError
        time.sleep(0.02)
