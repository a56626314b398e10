"""The messages that wait in the store, by lane; only their ids are kept in memory."""

from __future__ import annotations

from collections.abc import KeysView

from copper_kite.relay.turns import Flow, Turns

__all__ = ["Backlog", "Key"]

Key = tuple[str, str]  # a lane: its connector, and with `mx` the domain; the connector is empty where none carries


class Backlog:
    """Ids of messages that wait for a place in their lane, in the turns that they have there.

    An id may be here that waits no longer, or twice: whoever takes it looks into the store.
    """

    def __init__(self) -> None:
        self._lanes: dict[Key, Turns[int]] = {}

    def __len__(self) -> int:
        return sum(map(len, self._lanes.values()))

    def __contains__(self, lane: Key) -> bool:
        return lane in self._lanes

    def lanes(self) -> KeysView[Key]:
        """The lanes that something waits for."""
        return self._lanes.keys()

    def has(self, lane: Key, flow: Flow) -> bool:
        """Whether any of a flow waits for a lane: then none of that flow may overtake it."""
        turns = self._lanes.get(lane)
        return turns is not None and turns.waiting(flow) > 0

    def add(self, lane: Key, flow: Flow, id: int, *, first: bool = False) -> None:
        """A message waits for a lane; as the `first` of its flow, where it had left the backlog before."""
        turns = self._lanes.get(lane)
        if turns is None:
            turns = self._lanes[lane] = Turns()
        (turns.put_back if first else turns.append)(flow, id)

    def take(self, lane: Key, most: int) -> list[int]:
        """So many at most, in the order of their turns."""
        turns = self._lanes.get(lane)
        if turns is None:
            return []
        ids = [turns.take() for _ in range(min(most, len(turns)))]
        if not turns:
            del self._lanes[lane]
        return ids

    def clear(self) -> None:
        """Clear it; everything is looked up again."""
        self._lanes.clear()
