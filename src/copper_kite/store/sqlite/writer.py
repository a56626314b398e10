"""Group commit: whatever waits goes into one transaction, and only when that is on the disk are the senders answered.

While a commit is on its way to the disk, new changes gather; the next transaction takes them all. So the cost of
reaching stable storage is shared by everybody who waits for it, and nobody is answered before it.

The writing is done by a process of its own (`store.process`), at the other end of a channel: it has another core, and
no part in the loop's interpreter. Content goes there by memory that both see (`store.handed`).
"""

from __future__ import annotations

import math
import time
from collections.abc import Callable, Sequence
from functools import partial
from typing import Any, TypeVar

from copper_kite.errors import KiteError, StoreFailed, StoreFull
from copper_kite.store.model import Change, Done, Fresh, Relayed
from copper_kite.store.sqlite.commit import FAILED, FULL, Fault, fresh_row, rows_of
from copper_kite.store.sqlite.handed import Handed, Overfull
from copper_kite.store.sqlite.process import Channel
from copper_kite.store.sqlite.storable import storable

__all__ = ["GroupWriter"]

Defer = Callable[[Callable[[], None]], object]
CallbackFailed = Callable[[Any, bool, Exception], None]

C = TypeVar("C")
R = TypeVar("R")

MAX_BATCH = 500  # changes of a kind in one transaction
COMMIT_OCTETS = 32 * 1024  # that a commit takes in the database's log, more or less, until that is used again


class GroupWriter:
    """Takes changes from one thread, the loop's; has them committed in order, many at a time.

    `defer` has a function called soon in that thread, and again by and by while it raises. Whoever owns the loop calls
    `answered` when the channel can be read. `callback_failed` is called when a `done` raised: with its change, whether
    that was written, and the exception. `lost` is called, once, when the process at the other end is gone: then it is
    not known whether the changes on their way were kept; they are answered with StoreFailed, and so is every later one.
    """

    def __init__(
        self, channel: Channel, handed: Handed, defer: Defer, lost: Callable[[], None], callback_failed: CallbackFailed
    ) -> None:
        self._channel = channel
        self._handed = handed
        self._defer = defer
        self._lost = lost
        self._callback_failed = callback_failed
        # By kind: what is written together may be written in any order, as long as it is kept among those of a kind.
        self._fresh: list[tuple[Fresh, Done]] = []
        self._relayed: list[tuple[Relayed, Done]] = []
        self._changes: list[tuple[Change, Done]] = []
        self._kinds: dict[type, list[Any]] = {Fresh: self._fresh, Relayed: self._relayed, Change: self._changes}
        self._alone: tuple[Change, Done] | None = None  # it goes when all that was handed in before it has gone
        self._behind: list[tuple[Any, Done]] | None = None  # what was handed in after that
        self._batch: list[tuple[Any, Done]] = []  # whose commit is on the way
        self._scheduled = False
        self._broken = False
        self.waiting = 0  # changes that wait, or are on their way
        self.begun = math.inf  # when that which is on its way was sent, on the clock of `time.monotonic`
        self.octets = 0  # handed on to the disk since the start, more or less
        self.settled = 0  # of these, when the last answer came

    def submit(self, change: Change | Fresh | Relayed, done: Done) -> None:
        """Have `change` written; `done(None)` comes when it is on stable storage, `done(error)` when it is not."""
        self.waiting += 1
        if self._behind is not None:
            self._behind.append((change, done))
            return
        if type(change) is Change and change.shifted:
            self._alone, self._behind = (change, done), []
        else:
            self._kinds[type(change)].append((change, done))
        if not self._batch and not self._scheduled:
            self._scheduled = True
            self._defer(self._begin)  # so that all that the loop does in this turn goes together

    def answered(self) -> None:
        """The channel can be read: tell those whose commit it was, and have the next one begun."""
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

    def close(self) -> None:
        """Write what waits, and end the process. Further changes are not taken."""
        if self._batch:
            self.answered()
        while self.waiting:
            self._begin()
            if self._batch:
                self.answered()
        self._channel.close()
        self._handed.close()

    def _begin(self) -> None:
        """Send what waits, as far as it goes into one transaction."""
        self._scheduled = False
        if self._batch or not self.waiting:
            return
        if self._alone is not None and not (self._fresh or self._relayed or self._changes):
            self._changes.append(self._alone)
            self._alone = None
        handed, put = self._handed, self._handed.put
        handed.octets = 0
        fresh = self._rows(self._fresh, partial(fresh_row, put=put))
        changes = self._rows(self._changes, lambda change: tuple(rows_of(change, put)))
        relayed = [tuple(one) for one, _ in self._relayed[:MAX_BATCH]]
        taken = [*self._fresh[: len(fresh)], *self._relayed[:MAX_BATCH], *self._changes[: len(changes)]]
        if not taken:
            self._begin_again()
            return
        swept = any(change.swept for change, _ in self._changes[: len(changes)])
        del self._fresh[: len(fresh)], self._relayed[:MAX_BATCH], self._changes[: len(changes)]
        self._batch, self.begun = taken, time.monotonic()
        if self._behind is not None and self._alone is None:
            behind, self._behind = self._behind, None
            for one, done in behind:  # among them may be another that goes alone
                self.waiting -= 1
                self.submit(one, done)
        self.octets += handed.octets + COMMIT_OCTETS
        if self._broken:
            self._defer(self.answered)
        else:
            try:
                self._channel.send((handed.octets, swept, fresh, relayed, changes))
            except ValueError:  # one of them holds what is no plain value
                self._channel.send((handed.octets, swept, *map(storable, (fresh, relayed, changes))))

    def _rows(self, waiting: list[tuple[C, Done]], row_of: Callable[[C], R]) -> list[R]:
        """Rows of the first of a kind, as many as there is room for; one that cannot be made fails alone."""
        rows: list[R] = []
        for change, _ in waiting[:MAX_BATCH]:
            before = self._handed.octets
            try:
                rows.append(row_of(change))
            except Overfull:
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
        waiting: list[Any] = self._fresh or self._changes
        if waiting:
            self._give_up(waiting.pop(0), (FAILED, "it holds more content than can be written at once"))
            self._scheduled = True
            self._defer(self._begin)

    def _give_up(self, one: tuple[Any, Done], fault: Fault) -> None:
        """Have one told, after this turn, that it cannot be written."""
        self.waiting -= 1
        self._defer(partial(self._settle, [one], [fault]))

    def _settle(self, batch: Sequence[tuple[Any, Done]], faults: Sequence[Fault | None]) -> None:
        """Tell everybody, also when telling one of them fails."""
        for (change, done), fault in zip(batch, faults, strict=True):
            try:
                done(None if fault is None else _error(fault))
            except Exception as error:
                self._callback_failed(change, fault is None, error)

    def _faults(self, count: int) -> Sequence[Fault | None]:
        answer = None if self._broken else self._channel.receive()
        if answer is not None:
            return answer  # type: ignore[no-any-return]
        if not self._broken:
            self._broken = True
            self._lost()
        return [("lost", "the process that writes is gone")] * count


def _error(fault: Fault) -> KiteError:
    kind, text = fault
    return (StoreFull if kind == FULL else StoreFailed)(text)
