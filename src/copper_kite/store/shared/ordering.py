"""The order of item happened: by its end, as each entry is told when it is over."""

from __future__ import annotations

import heapq
from collections.abc import Iterator

from copper_kite.store.model import Attempt, Happened, Message

__all__ = ["ended", "in_order"]


def in_order(*streams: Iterator[Happened]) -> Iterator[Happened]:
    """Merge streams into the order of their ends: each entry is held while an earlier end may come."""
    held: list[tuple[float, int, Happened]] = []
    for number, happened in enumerate(heapq.merge(*streams, key=began)):
        while held and held[0][0] <= began(happened):
            yield heapq.heappop(held)[2]
        heapq.heappush(held, (ended(happened), number, happened))
    while held:
        yield heapq.heappop(held)[2]


def began(happened: Happened) -> float:
    item = happened.item
    return item.arrived if isinstance(item, Message) else item.at


def ended(happened: Happened) -> float:
    item = happened.item
    if isinstance(item, Message):
        return item.arrived
    return item.at + item.seconds if isinstance(item, Attempt) else item.at
