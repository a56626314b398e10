"""Messages that programs submit in a rehearsal."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import NamedTuple, Protocol

__all__ = ["Arrival", "Arrivals", "merge"]


class Arrival(NamedTuple):
    """A message at an instant (seconds since 1970): who submits it, its envelope, octets and priority (RFC 6710)."""

    at: float
    who: str
    sender: str
    recipients: tuple[str, ...]
    size: int = 4096
    priority: int = 0


class Arrivals(Protocol):
    """A source of messages; the same seed gives the same ones."""

    def between(self, since: float, until: float, seed: int) -> Iterator[Arrival]:
        """The messages from `since` to `until`, in the order of time."""


def merge(sources: Iterable[Iterator[Arrival]]) -> Iterator[Arrival]:
    """Several sources as one, in the order of time."""
    from heapq import merge as merged

    return merged(*sources, key=_at)


def _at(arrival: Arrival) -> float:
    return arrival.at
