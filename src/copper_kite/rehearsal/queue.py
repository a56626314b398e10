"""The queue of a rehearsal, in memory: the reads of a dispatcher, and the operations that it submits.

It makes no decisions. Operations (`store.operations`) are applied at once, and count as stable when the loop turns.
"""

from __future__ import annotations

from array import array
from bisect import bisect_left, bisect_right
from collections import defaultdict
from collections.abc import Callable, Iterator, Sequence
from heapq import heappop, heappush
from typing import Any, NamedTuple

from copper_kite.rehearsal.loop import SimulatedLoop
from copper_kite.relay import Job
from copper_kite.store import (
    AddMessage,
    AdminRequest,
    Done,
    Due,
    LaneStop,
    Message,
    Recipient,
    RecordRelayed,
    Reroute,
    RetryNow,
    SetState,
    StartLane,
    StopLane,
    Transaction,
    Waiting,
)
from copper_kite.words import FINAL, State

__all__ = ["Ended", "MemoryQueue"]


class Ended(NamedTuple):
    """A recipient that came to its end: of which message, how, when, and after how many attempts."""

    message: Message
    recipient: Recipient
    state: State
    at: float
    attempts: int


class MemoryQueue:
    """Open messages and their recipients. `ended` is called with each recipient's end, `moved` with each lane that
    stops (and the reason) or starts (and None)."""

    slot = None  # it is one server's own

    def __init__(
        self,
        loop: SimulatedLoop,
        ended: Callable[[Ended], object],
        moved: Callable[[tuple[str, str], LaneStop | None], object],
    ) -> None:
        self._loop = loop
        self._ended = ended
        self._moved = moved
        self._open: dict[int, tuple[Message, list[Recipient]]] = {}
        self._ids = array("Q")  # of all messages, in their order; those before `_first` have ended
        self._first = 0
        self._delayed: list[tuple[float, int, int]] = []  # a heap: when, message, number; some no longer hold
        self._relayed: dict[str, array[float]] = defaultdict(lambda: array("d"))  # by connector, in the order of time
        self.recipients = 0  # open ones of what was submitted; the server's own notices are not counted
        self._apply: dict[type, Callable[[Any], None]] = {
            AddMessage: self.add,
            RecordRelayed: self._record_relayed,
            SetState: self._set_state,
            RetryNow: self._retry_now,
            Reroute: self._reroute,
            StopLane: self._stop_lane,
            StartLane: self._start_lane,
        }

    # --- what is in it ------------------------------------------------------------------------------------------------

    def oldest(self) -> float | None:
        """When the oldest open message arrived."""
        self._forget_ended()
        return self._open[self._ids[self._first]][0].arrived if self._first < len(self._ids) else None

    @property
    def is_empty(self) -> bool:
        """Whether nothing is open."""
        return not self._open

    def left(self) -> Iterator[tuple[Message, Recipient]]:
        """The recipients that are open."""
        for message, recipients in self._open.values():
            for recipient in recipients:
                if recipient.state not in FINAL:
                    yield message, recipient

    def open_message(self, id: int) -> tuple[Message, list[Recipient]]:
        """A message that is open, with its recipients."""
        return self._open[id]

    def _forget_ended(self) -> None:
        first, ids, known = self._first, self._ids, self._open
        while first < len(ids) and ids[first] not in known:
            first += 1
        self._first = first

    # --- what is written ----------------------------------------------------------------------------------------------

    def submit(self, transaction: Transaction, done: Done) -> None:
        """Apply a transaction; `done` is called when the loop turns."""
        for operation in transaction:
            if (apply := self._apply.get(type(operation))) is not None:
                apply(operation)
        self._loop.call_soon(done, None)

    def add(self, addition: AddMessage) -> None:
        """A message is in the queue; it may have arrived before others that are."""
        message = addition.message
        self._open[message.id] = message, [*addition.recipients]
        if self._ids and message.id < self._ids[-1]:
            place = bisect_left(self._ids, message.id)
            self._ids.insert(place, message.id)
            self._first = min(self._first, place)
        else:
            self._ids.append(message.id)
        if message.listener:
            self.recipients += len(addition.recipients)

    def end_relayed(self, job: Job) -> None:
        """All recipients of a job are relayed."""
        message, recipients = self._open[job.message.id]
        for recipient in job.recipients:
            self._end(message, recipients, recipient.number, State.RELAYED, recipient.attempts + 1, job.connector)

    def _record_relayed(self, relayed: RecordRelayed) -> None:
        message, recipients = self._open[relayed.message]
        for number, attempts, _, _ in relayed.results:
            self._end(message, recipients, number, State.RELAYED, attempts, relayed.connector)

    def _set_state(self, change: SetState) -> None:
        message, recipients = self._open[change.message]
        if change.state in FINAL:
            self._end(message, recipients, change.number, change.state, change.attempts, change.connector)
            return
        recipients[change.number - 1] = recipients[change.number - 1]._replace(
            state=change.state, attempts=change.attempts, next_try=change.next_try, connector=change.connector,
            reply=change.reply, changed=change.at,
        )  # fmt: skip
        if change.next_try is not None:
            heappush(self._delayed, (change.next_try, message.id, change.number))

    def _end(
        self, message: Message, recipients: list[Recipient], number: int, state: State, attempts: int, connector: str
    ) -> None:
        recipient = recipients[number - 1]
        if len(recipients) == 1:
            del self._open[message.id]
        else:
            recipients[number - 1] = recipient._replace(state=state)
            if all(other.state in FINAL for other in recipients):
                del self._open[message.id]
        if message.listener:
            self.recipients -= 1
        if state is State.RELAYED:
            self._relayed[connector].append(self._loop.now)
        self._ended(Ended(message, recipient, state, self._loop.now, attempts))

    def _retry_now(self, order: RetryNow) -> None:
        for message, recipients in self._open.values():
            for place, recipient in enumerate(recipients):
                due = recipient.next_try
                if (
                    recipient.state is State.DELAYED
                    and recipient.connector == order.connector
                    and (due or 0) > order.at
                ):
                    recipients[place] = recipient._replace(next_try=order.at)
                    heappush(self._delayed, (order.at, message.id, recipient.number))

    def _reroute(self, change: Reroute) -> None:
        if (known := self._open.get(change.message)) is not None:
            known[1][change.number - 1] = known[1][change.number - 1]._replace(connector=change.connector)

    def _stop_lane(self, operation: StopLane) -> None:
        stop = operation.stop
        self._moved((stop.connector, stop.domain), stop)

    def _start_lane(self, operation: StartLane) -> None:
        self._moved((operation.connector, operation.domain), None)

    # --- what the dispatcher asks (see `store.ServerReads`) -----------------------------------------------------------

    def last_id(self) -> int:
        return self._ids[-1] if self._ids else 0

    def lanes(self) -> list[LaneStop]:
        return []

    def admin_requests(self) -> list[AdminRequest]:
        return []

    def content(self, message: int) -> Iterator[bytes]:
        return iter(())

    def reserve(self, connector: str, allowance: str, since: float, most: int, count: int) -> int | None:
        return None

    def relayed_since(self, connector: str, since: float) -> int:
        times = self._relayed[connector]
        return len(times) - bisect_left(times, since)

    def queued(self, after: int, until: int, limit: int) -> list[Waiting]:
        return []  # all of it is offered

    def delayed(self, after: tuple[float, int, int], until: float, limit: int) -> list[Waiting]:
        # What is read is passed: who is in hand then is looked up by id later, and no earlier time comes back.
        rows: list[Waiting] = []
        while self._delayed and self._delayed[0][0] <= until and len(rows) < limit:
            at, id, number = heappop(self._delayed)
            if (row := self._row(at, id, number)) is not None:
                rows.append(row)
        return rows

    def _row(self, at: float, id: int, number: int) -> Waiting | None:
        """A delayed recipient, where that still is its time."""
        known = self._open.get(id)
        if known is None:
            return None
        message, recipient = known[0], known[1][number - 1]
        holds = recipient.state is State.DELAYED and recipient.next_try == at
        return _waiting(message, recipient) if holds else None

    def waiting(self, ids: Sequence[int], until: float) -> list[Waiting]:
        return [_waiting(due.message, recipient) for due in self.due(ids, until) for recipient in due.recipients]

    def due(self, ids: Sequence[int], until: float, octets: int = 0) -> list[Due]:
        results = []
        for id in ids:
            known = self._open.get(id)
            if known is not None and (recipients := [item for item in known[1] if _is_due(item, until)]):
                results.append(Due(known[0], recipients))
        return results

    def next_due(self, after: float) -> float | None:
        heap = self._delayed
        while heap and self._row(*heap[0]) is None:
            heappop(heap)
        return max(heap[0][0], after) if heap else None

    def ages(self, after: int, limit: int) -> list[tuple[int, float, float]]:
        self._forget_ended()
        results: list[tuple[int, float, float]] = []
        for place in range(max(self._first, bisect_right(self._ids, after)), len(self._ids)):
            known = self._open.get(self._ids[place])
            if known is not None:
                results.append((known[0].id, known[0].arrived, known[0].expires))
                if len(results) == limit:
                    break
        return results


def _is_due(recipient: Recipient, until: float) -> bool:
    if recipient.state is State.DELAYED:
        return recipient.next_try is not None and recipient.next_try <= until
    return recipient.state is State.QUEUED


def _waiting(message: Message, recipient: Recipient) -> Waiting:
    return Waiting(
        message.id, recipient.number, recipient.address, recipient.connector, recipient.via, recipient.next_try or 0.0,
        message.reverse_path, message.arrived, message.expires, message.user or message.client, message.priority,
    )  # fmt: skip
