"""Group commit: whatever waits goes into one transaction, and only when that is on the disk are the senders answered.

While a commit is on its way to the disk, new changes gather; the next transaction takes them all. So the cost of
reaching stable storage is shared by everybody who waits for it, and nobody is answered before it.

The writing is done by a process of its own (`store.process`), at the other end of a channel: it has another core, and
no part in the loop's interpreter.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence

from copper_kite.errors import KiteError, StoreFailed, StoreFull
from copper_kite.store.commit import FULL, Fault, rows_of
from copper_kite.store.model import Change
from copper_kite.store.process import Channel

__all__ = ["Done", "GroupWriter"]

Done = Callable[[KiteError | None], None]
Defer = Callable[[Callable[[], None]], object]

MAX_BATCH = 500  # changes in one transaction
MAX_OCTETS = 1024 * 1024  # of content in one transaction, but for its last change


class GroupWriter:
    """Takes changes from one thread, the loop's; has them committed in order, many at a time.

    `defer` has a function called soon in that thread. Whoever owns the loop calls `answered` when the channel can be
    read. `lost` is called, once, when the process at the other end is gone: then it is not known whether the changes
    on their way were kept; they are answered with StoreFailed, and so is every later one.
    """

    def __init__(self, channel: Channel, defer: Defer, lost: Callable[[], None]) -> None:
        self._channel = channel
        self._defer = defer
        self._lost = lost
        self._waiting: list[tuple[Change, Done]] = []
        self._batch: list[Done] = []  # whose commit is on the way
        self._scheduled = False
        self._broken = False

    @property
    def waiting(self) -> int:
        """How many changes wait, or are on their way."""
        return len(self._waiting) + len(self._batch)

    def submit(self, change: Change, done: Done) -> None:
        """Have `change` written; `done(None)` comes when it is on stable storage, `done(error)` when it is not."""
        self._waiting.append((change, done))
        if not self._batch and not self._scheduled:
            self._scheduled = True
            self._defer(self._begin)  # so that all that the loop does in this turn goes together

    def answered(self) -> None:
        """The channel can be read: tell those whose commit it was, and have the next one begun."""
        batch, self._batch = self._batch, []
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

    def _begin(self) -> None:
        self._scheduled = False
        if not self._waiting or self._batch:
            return
        taken = self._take()
        self._batch = [done for _, done in taken]
        if self._broken:
            self._defer(self.answered)
        else:
            self._channel.send([tuple(rows_of(change)) for change, _ in taken])

    def _take(self) -> list[tuple[Change, Done]]:
        """What goes into the next transaction."""
        octets = count = 0
        for change, _ in self._waiting:
            count += 1
            octets += sum([len(portion) for _, _, portion in change.content])
            if octets >= MAX_OCTETS or count == MAX_BATCH:
                break
        taken, self._waiting = self._waiting[:count], self._waiting[count:]
        return taken

    def _faults(self, count: int) -> Sequence[Fault | None]:
        answer = None if self._broken else self._channel.receive()
        if answer is not None:
            return answer  # type: ignore[no-any-return]
        if not self._broken:
            self._broken = True
            self._lost()
        return [("lost", "the process that writes is gone")] * count


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
