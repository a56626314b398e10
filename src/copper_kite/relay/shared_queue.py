"""The part of a server in a queue that several servers share: it shows that it is alive, takes over the mail of those
that died, hears what administrators want of it, and sends nothing once its lease is near its end."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Generator
from typing import Any, Protocol

from copper_kite.relay.log import Log
from copper_kite.relay.supervisor import Repeated, Supervisor
from copper_kite.store import ServerReads

__all__ = ["LeasedContent", "SharedQueue"]

TURN_SECONDS = 1.0
TURNS_OF_LEASE = 8  # at least, in the time of a lease
PORTION = 2000  # messages taken over at a time
LOOK_AGAIN_SECONDS = 0.1  # while the lease is not sure


class _Lease(Protocol):
    """The writer, which keeps the lease."""

    def may_send(self) -> bool: ...

    def beat(self) -> None: ...


class LeasedContent:
    """What is awaited before content goes: the record of the message before, and a lease that surely holds."""

    def __init__(self, recorded: asyncio.Future[None] | None, may_send: Callable[[], bool]) -> None:
        self._recorded = recorded
        self._may_send = may_send

    def __await__(self) -> Generator[Any, None, None]:
        if self._recorded is not None:
            yield from self._recorded
        else:
            yield from asyncio.sleep(0).__await__()
        while not self._may_send():
            yield from asyncio.sleep(LOOK_AGAIN_SECONDS).__await__()


class SharedQueue:
    """Looks after the server's part, every second or more often. `taken_over` gets the ids of messages that are this
    server's now, `carry_out` has requests looked for."""

    def __init__(
        self,
        lease: _Lease,
        reads: ServerReads,
        seconds: float,
        log: Log,
        supervisor: Supervisor,
        taken_over: Callable[[list[int]], None],
        carry_out: Callable[[], None],
    ) -> None:
        self._lease = lease
        self._reads = reads
        self._log = log
        self._supervisor = supervisor
        self._taken_over = taken_over
        self._carry_out = carry_out
        self._count = 0
        self._turns: Repeated = supervisor.every(min(TURN_SECONDS, seconds / TURNS_OF_LEASE), self._turn, first=0.0)

    def stop(self) -> None:
        """Take nothing more."""
        self._turns.cancel()

    def _turn(self) -> None:
        self._lease.beat()
        if not self._lease.may_send():
            return
        ids = self._reads.adopt(PORTION)
        if ids:
            self._count += len(ids)
            self._taken_over(ids)
            self._supervisor.soon(self._turn)
            return
        if self._count:
            text = "their servers are silent, and their leases over"
            self._log.write("notice", "taken over", count=self._count, text=text)
            self._count = 0
        self._carry_out()
