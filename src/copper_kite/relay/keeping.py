"""Submissions while the database of a shared queue is away: kept in the data folder, and handed over when it is back,
each once.

What is kept here is sent by nobody before that: it is in no queue that servers see.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from functools import partial
from typing import Any

from copper_kite.errors import KiteError
from copper_kite.relay.moving import is_there, transaction_of
from copper_kite.relay.supervisor import Supervisor
from copper_kite.store import AddMessage, Done, Forget, Reader, ServerReads, Transaction, Writer

__all__ = ["AWAY_SECONDS", "Keeping"]

AWAY_SECONDS = 2.0  # that a batch is on its way: then the database counts as away
TURN_SECONDS = 1.0
PORTION = 200  # messages handed over at a time


class Keeping:
    """`shared` writes into the database, `local` into the data folder, which `kept` reads; `reads` are those of the
    server. `accepted` takes a message that is in the database, `handed_over` the id of one that came there later."""

    def __init__(
        self,
        shared: Writer,
        local: Writer,
        kept: Reader,
        reads: ServerReads,
        supervisor: Supervisor,
        accepted: Callable[[AddMessage], None],
        handed_over: Callable[[list[int]], None],
    ) -> None:
        self._shared = shared
        self._local = local
        self._kept = kept
        self._reads = reads
        self._accepted = accepted
        self._handed_over = handed_over
        self._here: dict[int, AddMessage] = {}  # messages that are in the data folder
        self._on_their_way: set[int] = set()
        self._turns = supervisor.every(TURN_SECONDS, self._turn, first=0.0)

    def stop(self) -> None:
        """Hand nothing more over."""
        self._turns.cancel()

    # --- a writer, as submissions see it ------------------------------------------------------------------------------

    @property
    def _away(self) -> bool:
        return time.monotonic() - self._shared.begun > AWAY_SECONDS

    @property
    def begun(self) -> float:
        """Since when something is on its way, as of a writer."""
        return self._local.begun if self._away else self._shared.begun

    @property
    def octets(self) -> int:
        """Octets handed on to the disk, as of a writer."""
        return self._local.octets

    @property
    def settled(self) -> int:
        """Octets that have arrived there, as of a writer."""
        return self._local.settled

    def submit(self, transaction: Transaction, done: Done) -> None:
        """Write a transaction into the database; a whole message, while that is away, into the data folder."""
        addition = transaction[0]
        if self._away and isinstance(addition, AddMessage) and addition.content is not None:
            self._here[addition.message.id] = addition._replace(content=None)
            self._local.submit(transaction, partial(self._was_kept, addition.message.id, done))
        else:
            self._shared.submit(transaction, done)

    def _was_kept(self, id: int, done: Done, error: KiteError | None) -> None:
        if error is not None:
            self._here.pop(id, None)
        done(error)

    def accepted(self, addition: AddMessage) -> None:
        """A message has become durable; one in the data folder is not sent yet."""
        if addition.message.id not in self._here:
            self._accepted(addition)

    # --- the way into the database ------------------------------------------------------------------------------------

    def _turn(self) -> None:
        """Hand over what is kept, a portion at a time, as long as the database takes it."""
        if self._away or not self._shared.may_send():
            return
        for id in self._kept.waiting_of("")[:PORTION]:
            if id not in self._on_their_way:
                self._hand_over(id)

    def _hand_over(self, id: int) -> None:
        if is_there(self._reads, id):  # a server that ended before it was forgotten here
            self._forget(id)
            return
        self._on_their_way.add(id)
        transaction = transaction_of(self._kept.record(id), self._kept)
        addition, came = transaction[0], self._here.get(id)
        if came is not None and isinstance(addition, AddMessage):  # what its sender submitted counts there, too
            transaction[0] = addition._replace(taken=came.taken)
        self._shared.submit(transaction, partial(self._was_handed_over, id))

    def _was_handed_over(self, id: int, error: KiteError | None) -> None:
        self._on_their_way.discard(id)
        if error is None:
            self._forget(id)

    def _forget(self, id: int) -> None:
        def forgotten(error: Any) -> None:
            if error is None:
                self._here.pop(id, None)
                self._handed_over([id])

        self._local.submit([Forget(id)], forgotten)
