"""Group commit: all waiting operations go into one transaction, and clients are answered once it is on the disk.

While a commit is on its way to the disk, new transactions gather; the next transaction takes them all. So the cost of
reaching stable storage is shared by everybody who waits for it, and nobody is answered before it.

The writing is done by a process of its own, the engine's, at the other end of a channel: it has another core, and no
part in the loop's interpreter. Content goes there by memory that both see (`shared_buffer`).
"""

from __future__ import annotations

import math
import time
from collections.abc import Callable, Sequence
from functools import partial
from typing import TypeVar

from copper_kite.store.contract import CallbackFailed, Defer
from copper_kite.store.operations import AddMessage, Done, Operation, RecordRelayed, ShiftClock, Transaction
from copper_kite.store.shared.batch import FAILED, LOST, Fault, error_of
from copper_kite.store.shared.channel import Channel
from copper_kite.store.shared.encoding import ENCODERS, Put, Row, encode
from copper_kite.store.shared.shared_buffer import BufferFull, SharedBuffer
from copper_kite.store.shared.storable import storable

__all__ = ["GroupWriter"]

R = TypeVar("R")
Waiting = tuple[Transaction, Done]

MAX_BATCH = 500  # transactions of a kind that are written together
COMMIT_OCTETS = 32 * 1024  # that a commit takes in the database's log, more or less, until that is used again


class GroupWriter:
    """A `store.contract.Writer`, at one end of a channel to the process that writes."""

    def __init__(
        self,
        channel: Channel,
        handed: SharedBuffer,
        defer: Defer,
        lost: Callable[[], None],
        callback_failed: CallbackFailed,
    ) -> None:
        self._channel = channel
        self._handed = handed
        self._defer = defer
        self._lost = lost
        self._callback_failed = callback_failed
        self._fresh: list[Waiting] = []  # a single AddMessage with its content each; these may go in any order
        self._relayed: list[Waiting] = []  # a single RecordRelayed each; so may these
        self._others: list[Waiting] = []
        self._alone: Waiting | None = None  # it goes when all that was submitted before it has gone
        self._following: list[Waiting] | None = None  # what was submitted after that
        self._batch: list[Waiting] = []  # whose commit is on the way
        self._scheduled = False
        self._broken = False
        self.waiting = 0  # transactions that wait, or are on their way
        self.begun = math.inf  # when that which is on its way was sent, on the clock of `time.monotonic`
        self.octets = 0  # handed on to the disk since the start, more or less
        self.settled = 0  # of these, when the last answer came

    def submit(self, transaction: Transaction, done: Done) -> None:
        # Group commit: one batch is on its way at a time, and all that is submitted meanwhile makes the next one, so
        # the slower the disk, the larger the batches. Nothing waits for a timer: the first transaction after a pause
        # goes at the end of the loop's turn in which it came.
        self.waiting += 1
        if self._following is not None:
            self._following.append((transaction, done))
            return
        if len(transaction) == 1:
            kind = type(operation := transaction[0])
            if kind is RecordRelayed:
                self._relayed.append((transaction, done))
            elif kind is AddMessage and operation.content is not None:  # type: ignore[union-attr]
                self._fresh.append((transaction, done))
            else:
                self._submit_other(transaction, done)
        else:
            self._submit_other(transaction, done)
        if not self._batch and not self._scheduled:
            self._scheduled = True
            self._defer(self._begin)  # so that all that the loop does in this turn goes together

    def _submit_other(self, transaction: Transaction, done: Done) -> None:
        # A shift of the clock changes every stored time up to now. What was submitted before it must be in the store by
        # then, and what comes after it is of the new clock: so it goes in a transaction of its own, between the two.
        if any(type(operation) is ShiftClock for operation in transaction):
            self._alone, self._following = (transaction, done), []
        else:
            self._others.append((transaction, done))

    def answered(self) -> None:
        # The next batch is begun even when a callback fails, and before anything else: otherwise nobody would ever hear
        # of what waits. `finally` keeps that true for exceptions of ours, too.
        batch, self._batch, self.begun = self._batch, [], math.inf
        self.waiting -= len(batch)
        self.settled = self.octets
        try:
            self._settle(batch, self._faults(len(batch)))
        finally:
            try:
                self._begin()
            except Exception:
                self._scheduled = True
                self._defer(self._begin)
                raise

    def fileno(self) -> int:
        return self._channel.fileno()

    def may_send(self) -> bool:
        return True

    def beat(self) -> None:
        """Nobody else waits for a sign of life."""

    def close(self) -> None:
        self.finish()
        self.end()

    def finish(self) -> None:
        """Write what waits."""
        if self._batch:
            self.answered()
        while self.waiting:
            self._begin()
            if self._batch:
                self.answered()

    def end(self) -> None:
        """End the process, and free the memory."""
        self._channel.close()
        self._handed.close()

    def _begin(self) -> None:
        """Send what waits, as far as it goes into one transaction."""
        self._scheduled = False
        if self._batch or not self.waiting:
            return
        if self._alone is not None and not (self._fresh or self._relayed or self._others):
            self._others.append(self._alone)
            self._alone = None
        handed = self._handed
        handed.octets = 0
        fresh = self._rows(self._fresh, _fresh_row)
        others = self._rows(self._others, encode)
        relayed = self._rows(self._relayed, _relayed_row)
        taken = []
        for waiting, rows in ((self._fresh, fresh), (self._relayed, relayed), (self._others, others)):
            taken += waiting[: len(rows)]
            del waiting[: len(rows)]
        if not taken:
            self._begin_again()
            return
        self._batch, self.begun = taken, time.monotonic()
        if self._following is not None and self._alone is None:
            following, self._following = self._following, None
            for result, done in following:  # among them may be another that goes alone
                self.waiting -= 1
                self.submit(result, done)
        self.octets += handed.octets + COMMIT_OCTETS
        if self._broken:
            self._defer(self.answered)
        else:
            try:
                self._channel.send((handed.octets, fresh, relayed, others))
            except ValueError:  # one of them holds what is no plain value
                self._channel.send((handed.octets, *map(storable, (fresh, relayed, others))))

    def _rows(self, waiting: list[Waiting], row_of: Callable[[Transaction, Put], R]) -> list[R]:
        """Rows of the first of a kind, as many as there is room for; one that cannot be made fails alone."""
        # Rows are made in this process, so that one that cannot be encoded fails its own transaction and no other: in
        # the process that writes it would fail the whole batch. Content is put into the shared memory on the way; where
        # it does not fit any more, the transaction is the first of the next batch.
        rows: list[R] = []
        for transaction, _ in waiting[:MAX_BATCH]:
            before = self._handed.octets
            try:
                rows.append(row_of(transaction, self._handed.put))
            except BufferFull:
                self._handed.octets = before
                break
            except Exception as error:
                self._handed.octets = before
                if rows:
                    break  # it is the first of the next ones
                self._give_up(waiting.pop(0), (FAILED, repr(error)))
        return rows

    def _begin_again(self) -> None:
        """Of those that wait, the first holds more than there is room for at all; or none waits any more."""
        waiting = self._fresh or self._others
        if waiting:
            self._give_up(waiting.pop(0), (FAILED, "it holds more content than can be written at once"))
            self._scheduled = True
            self._defer(self._begin)

    def _give_up(self, waiting: Waiting, fault: Fault) -> None:
        """Report, after this turn, that an operation cannot be written."""
        self.waiting -= 1
        self._defer(partial(self._settle, [waiting], [fault]))

    def _settle(self, batch: Sequence[Waiting], faults: Sequence[Fault | None]) -> None:
        """Tell everybody, also when telling one of them fails."""
        for (transaction, done), fault in zip(batch, faults, strict=True):
            try:
                done(None if fault is None else error_of(fault))
            except Exception as error:
                self._callback_failed(transaction, fault is None, error)

    def _faults(self, count: int) -> Sequence[Fault | None]:
        # When the process is gone, nobody knows whether its last commit succeeded. All that was in it is told as lost,
        # which sessions answer with 451; after the restart the store itself says what was kept.
        answer = None if self._broken else self._channel.receive()
        if answer is not None:
            return answer  # type: ignore[no-any-return]
        if not self._broken:
            self._broken = True
            self._lost()
        return [(LOST, "the process that writes is gone")] * count


def _fresh_row(transaction: Sequence[Operation], put: Put) -> Row:
    return _encode_fresh(transaction[0], put)


def _relayed_row(transaction: Sequence[Operation], put: Put) -> Row:
    return _encode_relayed(transaction[0], put)


_encode_fresh, _encode_relayed = ENCODERS[AddMessage], ENCODERS[RecordRelayed]
