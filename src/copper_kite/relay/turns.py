"""Fair queueing: senders that share a lane take turns, however much each of them has waiting.

Start-time fair queueing: each flow (a sender's mail of one priority) has a mark on a clock that advances with what is
taken. The flow with the lowest mark is next, and its mark moves on by the inverse of its weight. A flow that begins to
wait gets the first mark after now: one message of an urgent flow comes before almost all that waits already.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Iterator
from heapq import heapify, heappop, heappush, heapreplace
from typing import Generic, NamedTuple, TypeVar

from copper_kite.store import Message
from copper_kite.words import Priority

__all__ = ["Flow", "Turns"]

T = TypeVar("T")


# How many turns a flow of one class has, while one of another has so many.
WEIGHTS = {Priority.BULK: 1.0, Priority.NORMAL: 10.0, Priority.URGENT: 100.0}


class Flow(NamedTuple):
    """A flow: the sender and the priority."""

    who: str
    priority: Priority

    @classmethod
    def of(cls, message: Message) -> Flow:
        """That of a message."""
        return cls(message.user or message.client, Priority.of(message.priority))


class Turns(Generic[T]):
    """Waiting items in flows; within each flow, first in, first out."""

    def __init__(self) -> None:
        self._flows: dict[Flow, deque[T]] = {}
        self._marks: list[tuple[float, int, Flow]] = []  # a heap: each flow that is not empty once
        self._now = 0.0
        self._turn = 0  # among equal marks, the one that has waited longer is first
        self._size = 0

    def __len__(self) -> int:
        return self._size

    def __iter__(self) -> Iterator[T]:
        for flow in self._flows.values():
            yield from flow

    def waiting(self, flow: Flow) -> int:
        """How many of a flow wait."""
        items = self._flows.get(flow)
        return len(items) if items is not None else 0

    def append(self, flow: Flow, item: T) -> None:
        """Add the last one of a flow."""
        self._items(flow).append(item)
        self._size += 1

    def put_back(self, flow: Flow, item: T) -> None:
        """Add one that was taken, and was not carried: it is the first of its flow."""
        self._items(flow).appendleft(item)
        self._size += 1

    def next(self) -> T:
        """The one whose turn it is, which stays. Raises IndexError where none waits."""
        return self._flows[self._marks[0][2]][0]

    def take(self) -> T:
        """Take the one whose turn it is. Raises IndexError where none waits."""
        # Weighted fair queueing: each flow has the time of its next turn, and after a turn it is moved on by the
        # inverse of its weight. A flow that begins is placed at the time of now, so it neither waits behind the
        # backlog of another nor has turns to make up for from when it was empty. Each step costs the logarithm of the
        # number of flows.
        mark, _, flow = self._marks[0]
        items = self._flows[flow]
        item = items.popleft()
        self._size -= 1
        self._now = mark
        if items:
            self._turn += 1
            heapreplace(self._marks, (mark + 1.0 / WEIGHTS[flow.priority], self._turn, flow))
        else:
            heappop(self._marks)
            del self._flows[flow]
        return item

    def drop_last(self, flow: Flow, item: T) -> None:
        """Take the last one of a flow out again, where it is this one."""
        items = self._flows.get(flow)
        if items is not None and items[-1] is item:
            items.pop()
            self._size -= 1
            if not items:
                del self._flows[flow]
                self._marks = [mark for mark in self._marks if mark[2] != flow]
                heapify(self._marks)

    def clear(self) -> list[T]:
        """Take all; flow by flow."""
        items = list(self)
        self._flows.clear()
        self._marks.clear()
        self._size = 0
        return items

    def _items(self, flow: Flow) -> deque[T]:
        items = self._flows.get(flow)
        if items is None:
            items = self._flows[flow] = deque()
            self._turn += 1
            heappush(self._marks, (self._now + 1.0 / WEIGHTS[flow.priority], self._turn, flow))
        return items
