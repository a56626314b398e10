"""Group commit: whatever waits goes into one transaction, and only when that is on the disk are the senders answered.

While a commit is on its way to the disk, new changes gather; the next transaction takes them all. So the cost of
reaching stable storage is shared by everybody who waits for it, and nobody is answered before it.

The octets of content are appended to files here (`store.segments`), which takes no longer than handing them on would.
All else is done by a process of its own (`store.process`), at the other end of a channel: it makes those files stable,
and commits what says where in them a message stands. It has another core, and no part in the loop's interpreter.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TypeVar

from copper_kite.errors import KiteError, StoreFailed, StoreFull
from copper_kite.store.commit import FULL, Fault, failure, fresh_row, rows_of
from copper_kite.store.model import Change, Done, Fresh, Relayed
from copper_kite.store.process import Channel
from copper_kite.store.segments import Segments

__all__ = ["GroupWriter"]

Defer = Callable[[Callable[[], None]], object]

C = TypeVar("C", Change, Fresh)

MAX_BATCH = 500  # changes of a kind in one transaction
MAX_OCTETS = 4 * 1024 * 1024  # of their content, but for the last one
FEW = 50  # so many are not looked at one by one


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
        # By kind: what is written together may be written in any order, as long as it is kept among those of a kind.
        self._fresh: list[tuple[Fresh, Done]] = []
        self._relayed: list[tuple[Relayed, Done]] = []
        self._changes: list[tuple[Change, Done]] = []
        self._batch: list[Done] = []  # whose commit is on the way
        self._segment = 0  # the last one that something was written to
        self._scheduled = False
        self._broken = False
        self.waiting = 0  # changes that wait, or are on their way

    def submit(self, change: Change | Fresh | Relayed, done: Done) -> None:
        """Have `change` written; `done(None)` comes when it is on stable storage, `done(error)` when it is not."""
        if isinstance(change, Fresh):
            self._fresh.append((change, done))
        elif isinstance(change, Relayed):
            self._relayed.append((change, done))
        else:
            self._changes.append((change, done))
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
        while self.waiting:
            self._begin()
            self.answered()
        self._channel.close()
        self._segments.leave()

    def _begin(self) -> None:
        """Send what waits, as far as it goes into one transaction."""
        self._scheduled = False
        if self._batch or not self.waiting:
            return
        segments, empty_below = self._segments, 0
        relayed, self._relayed = self._relayed[:MAX_BATCH], self._relayed[MAX_BATCH:]
        fresh, changes = _first(self._fresh, _octets_of_fresh), _first(self._changes, _octets_of_change)
        try:
            fresh_rows = [fresh_row(one, segments.put) for one, _ in fresh]
            rows = [tuple(rows_of(change, segments.put)) for change, _ in changes]
            segment = segments.flush()
        except OSError as error:
            self._relayed = relayed + self._relayed
            self._keep_out(len(fresh), len(changes), error)
            return
        del self._fresh[: len(fresh)], self._changes[: len(changes)]
        self._batch = [done for _, done in (*fresh, *relayed, *changes)]
        if self._broken:
            self._defer(self.answered)
            return
        if segment > self._segment:
            empty_below = self._segment = segment
        if changes and any(change.swept for change, _ in changes):
            empty_below = segments.last + 1
            segments.leave()
        self._channel.send((segment, empty_below, fresh_rows, [tuple(one) for one, _ in relayed], rows))

    def _keep_out(self, fresh: int, changes: int, error: OSError) -> None:
        """Content cannot be written: those of the first that have some are told, the others go on."""
        self._segments.leave()
        failed = [done for _, done in self._fresh[:fresh]]
        failed += [done for change, done in self._changes[:changes] if _has_content(change)]
        del self._fresh[:fresh]
        others = [one for one in self._changes[:changes] if not _has_content(one[0])]
        self._changes = others + self._changes[changes:]
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


def _has_content(change: Change) -> bool:
    return bool(change.content or change.moved)


def _first(waiting: list[tuple[C, Done]], octets_of: Callable[[C], int]) -> list[tuple[C, Done]]:
    """As many as go into one transaction."""
    if len(waiting) <= FEW:
        return waiting[:]
    octets, first = 0, []
    for one in waiting[:MAX_BATCH]:
        first.append(one)
        octets += octets_of(one[0])
        if octets >= MAX_OCTETS:
            break
    return first


def _octets_of_fresh(fresh: Fresh) -> int:
    return fresh.message.size


def _octets_of_change(change: Change) -> int:
    return sum([len(octets) for _, _, octets in change.content])


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
