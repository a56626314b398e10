"""Group commit: whatever waits goes into one transaction, and only when that is on the disk are the senders answered.

While a commit is on its way to the disk, new changes gather; the next transaction takes them all. So the cost of
reaching stable storage is shared by everybody who waits for it, and nobody is answered before it.

The octets of content are appended to files here (`store.segments`), which takes no longer than handing them on would.
All else is done by a process of its own (`store.process`), at the other end of a channel: it makes those files stable,
and commits what says where in them a message stands. It has another core, and no part in the loop's interpreter.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

from copper_kite.errors import KiteError, StoreFailed, StoreFull
from copper_kite.store.commit import FULL, Fault, FreshRow, Row, failure, fresh_row, rows_of
from copper_kite.store.model import Change, Done, Fresh, Relayed
from copper_kite.store.process import Channel
from copper_kite.store.segments import Segments

__all__ = ["GroupWriter"]

Defer = Callable[[Callable[[], None]], object]

MAX_BATCH = 500  # changes in one transaction
MAX_OCTETS = 4 * 1024 * 1024  # of content in one transaction, but for its last change


class GroupWriter:
    """Takes changes from one thread, the loop's; has them committed in order, many at a time.

    `defer` has a function called soon in that thread. Whoever owns the loop calls `answered` when the channel can be
    read. `lost` is called, once, when the process at the other end is gone: then it is not known whether the changes
    on their way were kept; they are answered with StoreFailed, and so is every later one.
    """

    def __init__(self, channel: Channel, segments: Segments, defer: Defer, lost: Callable[[], None]) -> None:
        self._channel = channel
        self._segments = segments
        self._defer = defer
        self._lost = lost
        self._waiting: list[tuple[Change | Fresh | Relayed, Done]] = []
        self._batch: list[Done] = []  # whose commit is on the way
        self._segment = 0  # the last one that something was written to
        self._scheduled = False
        self._broken = False
        self.waiting = 0  # changes that wait, or are on their way

    def submit(self, change: Change | Fresh | Relayed, done: Done) -> None:
        """Have `change` written; `done(None)` comes when it is on stable storage, `done(error)` when it is not."""
        self._waiting.append((change, done))
        self.waiting += 1
        if not self._batch and not self._scheduled:
            self._scheduled = True
            self._defer(self._begin)  # so that all that the loop does in this turn goes together

    def answered(self) -> None:
        """The channel can be read: tell those whose commit it was, and have the next one begun."""
        batch, self._batch = self._batch, []
        self.waiting -= len(batch)
        try:
            _settle(batch, self._faults(len(batch)))
        finally:
            self._begin()

    def close(self) -> None:
        """Write what waits, and end the process. Further changes are not taken."""
        if self._batch:
            self.answered()
        while self._waiting or self._batch:
            self._begin()
            self.answered()
        self._channel.close()
        self._segments.leave()

    def _begin(self) -> None:
        """Send what waits, as far as it goes into one transaction."""
        self._scheduled = False
        if not self._waiting or self._batch:
            return
        waiting, segments, put = self._waiting, self._segments, self._segments.put
        fresh: list[FreshRow] = []
        relayed: list[Row] = []
        rows: list[tuple[Any, ...]] = []
        told: tuple[list[Done], list[Done], list[Done]] = [], [], []
        count = empty_below = 0
        try:
            for change, done in waiting:
                count += 1
                if isinstance(change, Fresh):
                    fresh.append(fresh_row(change, put))
                    told[0].append(done)
                elif isinstance(change, Relayed):
                    relayed.append(tuple(change))
                    told[1].append(done)
                else:
                    rows.append(tuple(rows_of(change, put)))
                    told[2].append(done)
                    if change.swept:
                        empty_below = segments.last + 1
                if count == MAX_BATCH or segments.pending >= MAX_OCTETS:
                    break
            segment = segments.flush()
        except OSError as error:
            self._keep_out(count, error)
            return
        self._waiting, self._batch = waiting[count:], [*told[0], *told[1], *told[2]]
        if self._broken:
            self._defer(self.answered)
            return
        if segment > self._segment:
            empty_below, self._segment = max(empty_below, segment), segment
        if empty_below > segments.last:
            segments.leave()
        self._channel.send((segment, empty_below, fresh, relayed, rows))

    def _keep_out(self, count: int, error: OSError) -> None:
        """Content cannot be written: those of the first `count` that have some are told, the others go on."""
        self._segments.leave()
        failed = [done for change, done in self._waiting[:count] if _has_content(change)]
        others = [one for one in self._waiting[:count] if not _has_content(one[0])]
        self._waiting = others + self._waiting[count:]
        self.waiting -= len(failed)
        self._scheduled = True
        self._defer(self._begin)
        _settle(failed, [failure(error)] * len(failed))

    def _faults(self, count: int) -> Sequence[Fault | None]:
        answer = None if self._broken else self._channel.receive()
        if answer is not None:
            if any(answer):
                self._segments.leave()
            return answer  # type: ignore[no-any-return]
        if not self._broken:
            self._broken = True
            self._lost()
        return [("lost", "the process that writes is gone")] * count


def _has_content(change: Change | Fresh | Relayed) -> bool:
    return isinstance(change, Fresh) or (isinstance(change, Change) and bool(change.content or change.moved))


def _settle(batch: Sequence[Done], faults: Sequence[Fault | None]) -> None:
    """Tell everybody, also when telling one of them fails; raises what failed, at the end."""
    broken = []
    for done, fault in zip(batch, faults, strict=True):
        try:
            done(None if fault is None else _error(fault))
        except Exception as exception:
            broken.append(exception)
    if broken:
        raise ExceptionGroup("telling the outcome of a commit failed", broken)


def _error(fault: Fault) -> KiteError:
    kind, text = fault
    return (StoreFull if kind == FULL else StoreFailed)(text)
