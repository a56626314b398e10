"""The part of a server in a queue that several servers share: it shows that it is alive, takes over the mail of those
that died, hears what administrators want of it, and sends nothing once its lease is near its end."""

from __future__ import annotations

import time
from functools import partial

from copper_kite.errors import KiteError, StoreAway
from copper_kite.relay.dispatch import Dispatcher
from copper_kite.relay.supervisor import Repeated, Supervisor
from copper_kite.store import HandOver, ServerReads, Writer

__all__ = ["SharedQueue"]

TURN_SECONDS = 1.0
TURNS_OF_LEASE = 8  # at least, in the time of a lease
PORTION = 500  # messages taken over at a time, while the loop waits
MUCH = 500  # messages that wait, before any are given to another server
MUCH_MORE = 4  # times as many as wait there


class SharedQueue:
    """Looks after the server's part, every second or more often."""

    def __init__(
        self,
        writer: Writer,
        reads: ServerReads,
        seconds: float,
        dispatcher: Dispatcher,
        supervisor: Supervisor,
    ) -> None:
        """`seconds` is the time of the lease."""
        self._seconds = seconds
        self._steady_since = time.monotonic()
        self._writer = writer
        self._reads = reads
        self._dispatcher = dispatcher
        self._supervisor = supervisor
        self._count = 0  # messages taken over, that were not told of yet
        self._turns: Repeated = supervisor.every(min(TURN_SECONDS, seconds / TURNS_OF_LEASE), self._turn, first=0.0)

    def stop(self) -> None:
        """Take nothing more."""
        self._turns.cancel()

    def wake(self) -> None:
        """Look for messages that another server handed over."""
        self._supervisor.soon(self._look)

    def _turn(self) -> None:
        self._writer.beat()
        self._look()

    def _look(self) -> None:
        # After an outage of the database all leases may be over, and the first to come back must not take the mail of
        # those who are just coming: so nobody counts as dead before this server has seen the database for a lease.
        now = time.monotonic()
        if not self._writer.may_send():
            self._steady_since = now
            return
        try:
            ids = self._reads.adopt(PORTION, from_dead=now - self._steady_since >= self._seconds)
        except StoreAway:
            self._steady_since = now
            raise
        if ids:
            self._count += len(ids)
            self._dispatcher.left_in_store(ids)
            self._supervisor.soon(self._look)
            return
        if self._count:
            text = "they were other servers', which are silent, or have more to do"
            self._dispatcher.log.write("notice", "taken over", count=self._count, text=text)
            self._dispatcher.supply.deadlines.start_over()  # which has looked through what is older
            self._count = 0
        self._dispatcher.carry_out_requests()
        self._share()

    def _share(self) -> None:
        """Give those that have little to do a part of what waits here."""
        supply = self._dispatcher.supply
        peers = self._reads.exchange(len(supply.backlog))
        for slot, count in peers:
            if len(supply.backlog) < MUCH or count * MUCH_MORE > len(supply.backlog):
                return
            ids = supply.take_to_give(min((len(supply.backlog) - count) // (len(peers) + 1), PORTION))
            if ids:
                self._writer.submit([HandOver(slot, ids)], partial(self._given, ids))

    def _given(self, ids: list[int], error: KiteError | None) -> None:
        if error is not None:
            self._dispatcher.left_in_store(ids)
