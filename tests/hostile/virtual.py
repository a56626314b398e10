"""An event loop whose time passes at no cost, and connections in memory: thousands of sessions a second, always the same.

Nothing waits: when no callback is ready, the clock jumps to the next timer. A run depends on its choices alone.
"""

from __future__ import annotations

import asyncio
import errno
import random
import socket
from asyncio import base_events
from collections.abc import Callable, Sequence
from typing import Any, Protocol

__all__ = ["STARTED", "Choices", "End", "Link", "RandomChoices", "VirtualLoop", "run"]

STARTED = 1000.0  # what its clock shows at first
MOST_TURNS = 400_000  # of one run: a loop that turns more often spins


class Choices(Protocol):
    """Where chance comes from."""

    def pick(self, count: int) -> int:
        """A number from 0 to `count` - 1."""


class RandomChoices:
    """Chance from a seed; `trail` is a digest of all picks: two runs with the same one took the same path."""

    def __init__(self, seed: int) -> None:
        self._random = random.Random(seed)
        self.trail = 0

    def pick(self, count: int) -> int:
        number = int(self._random.random() * count)
        self.trail = hash((self.trail, count, number))
        return number


class _Selector:
    """Nothing ever comes in from outside; to wait is to let time pass."""

    def __init__(self, loop: VirtualLoop) -> None:
        self._loop = loop

    def select(self, timeout: float | None) -> list[object]:
        self._loop.turns += 1
        if timeout is None:
            raise AssertionError("the loop waits for something that never comes")
        if self._loop.turns > MOST_TURNS:
            raise AssertionError("the loop spins")
        self._loop.now += timeout
        return []


Answer = Callable[[str, int], "End"]


class VirtualLoop(base_events.BaseEventLoop):
    """`answer` is asked for each connection: it gives the other end, or raises OSError. TimeoutError: packets vanish."""

    def __init__(self) -> None:
        super().__init__()
        self.now = STARTED
        self.turns = 0
        self.answer: Answer = _nobody
        self.addresses: dict[str, Sequence[str]] = {}
        self._selector = _Selector(self)

    def time(self) -> float:
        return self.now

    def _process_events(self, events: object) -> None:
        """There are none."""

    def _write_to_self(self) -> None:
        """Nobody else runs."""

    async def run_in_executor(self, executor: Any, call: Any, *given: Any) -> Any:  # type: ignore[override]
        return call(*given)

    async def getaddrinfo(self, host: Any, port: Any, **_: Any) -> list[Any]:
        result = self.addresses.get(host, (host,))
        return [(socket.AF_INET, socket.SOCK_STREAM, 6, "", (address, port)) for address in result]

    async def create_connection(self, factory: Any, host: Any = None, port: Any = None, **_: Any) -> Any:  # type: ignore[override]
        try:
            end = self.answer(host, port)
        except TimeoutError:
            await self.create_future()
            raise
        await asyncio.sleep(0)
        protocol = factory()
        transport = Link(self, protocol, end)
        end.link = transport
        protocol.connection_made(transport)
        self.call_soon(end.connected)
        return transport, protocol


def _nobody(host: str, port: int) -> End:
    raise ConnectionRefusedError(errno.ECONNREFUSED, "refused")


class End(Protocol):
    """The peer's end of a connection."""

    link: Link

    def connected(self) -> None:
        """The connection is there."""

    def heard(self, data: bytes) -> None:
        """Octets came from our side."""

    def gone(self) -> None:
        """Our side closed."""


class Link(asyncio.Transport):
    """The transport of our side, in memory."""

    def __init__(self, loop: VirtualLoop, protocol: asyncio.Protocol, end: End) -> None:
        super().__init__()
        self._loop = loop
        self._protocol = protocol
        self._end = end
        self._closing = False
        self._reading = True
        self._held: list[bytes] = []

    # --- what our side calls ----------------------------------------------------------------------------------------

    def write(self, data: Any) -> None:
        if self._closing:
            raise RuntimeError(
                "unable to perform operation; the handler is closed"
            )  # as the real loop's transport does
        self._loop.call_soon(self._end.heard, bytes(data))

    def get_write_buffer_size(self) -> int:
        return 0

    def close(self) -> None:
        self._finish(None)

    def abort(self) -> None:
        self._finish(None)

    def is_closing(self) -> bool:
        return self._closing

    def pause_reading(self) -> None:
        self._reading = False

    def resume_reading(self) -> None:
        self._reading = True
        held, self._held = self._held, []
        for data in held:
            self._loop.call_soon(self._deliver, data)

    def set_protocol(self, protocol: Any) -> None:
        self._protocol = protocol

    def get_protocol(self) -> Any:
        return self._protocol

    def get_extra_info(self, name: str, default: Any = None) -> Any:
        return ("192.0.2.7", 4711) if name == "peername" else default

    def _finish(self, error: Exception | None) -> None:
        if not self._closing:
            self._closing = True
            self._loop.call_soon(self._end.gone)
            self._loop.call_soon(self._protocol.connection_lost, error)

    # --- what the peer calls ----------------------------------------------------------------------------------------

    @property
    def open(self) -> bool:
        """Whether our side can still hear."""
        return not self._closing

    def say(self, data: bytes) -> None:
        """Octets for our side."""
        self._loop.call_soon(self._deliver, data)

    def _deliver(self, data: bytes) -> None:
        if self._closing:
            return
        if not self._reading:
            self._held.append(data)
            return
        self._protocol.data_received(data)

    def shut(self, *, reset: bool = False) -> None:
        """Close from the peer's side: what was said before is still heard, unless it is a `reset`."""
        if reset:
            self._finish(ConnectionResetError(errno.ECONNRESET, "reset by peer"))
        else:
            self._loop.call_soon(self._ended)

    def _ended(self) -> None:
        if not self._closing and not self._protocol.eof_received():
            self._finish(None)


def run(main: Callable[[VirtualLoop], Any]) -> Any:
    """Run a coroutine to its end on a loop of its own; what it left running is cancelled."""
    loop = VirtualLoop()
    problems: list[dict[str, Any]] = []
    loop.set_exception_handler(lambda _, context: problems.append(context))
    try:
        result = loop.run_until_complete(main(loop))
        left = asyncio.all_tasks(loop)
        for task in left:
            task.cancel()
        if left:
            loop.run_until_complete(asyncio.gather(*left, return_exceptions=True))
        assert not problems, problems[0]
        return result
    finally:
        loop.close()
