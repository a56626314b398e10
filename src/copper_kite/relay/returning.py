"""What is held for lanes whose next hops are down: let go when they are back, the oldest first, a portion at a time.

While a lane is down nothing is written about what is held for it. The message that found out is tried again when its
time comes, and tells whether the lane is back; where that one is gone, another is taken in its place.
"""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from functools import partial
from typing import Protocol

from copper_kite.clock import Clock
from copper_kite.errors import KiteError
from copper_kite.relay.supervisor import Supervisor
from copper_kite.store.model import Change, Submit

__all__ = ["Key", "Returning"]

Key = tuple[str, str]  # a connector, and with `mx` a domain of it
PORTION = 1000  # recipients let go at a time
ALL = -1
AGAIN_SECONDS = 1.0  # until a portion that could not be written is tried again
GRACE_SECONDS = 5.0  # after the time of a lane that is down, in which the message that found out may try


class _Reader(Protocol):
    def holds(self, connector: str, domain: str = "") -> bool:
        """Whether a recipient is held for this lane."""


class Returning:
    """`next_try` gives when a lane that is down, or at work, is to be looked at again; None where it is neither.

    `due` is called when some of what was held is due.
    """

    def __init__(
        self,
        clock: Clock,
        supervisor: Supervisor,
        submit: Submit,
        reader: _Reader,
        next_try: Callable[[Key], float | None],
        due: Callable[[float], None],
    ) -> None:
        self._clock = clock
        self._supervisor = supervisor
        self._submit = submit
        self._reader = reader
        self._next_try = next_try
        self._due = due
        self._lanes: set[Key] = set()  # that are back, and for which something may still be held
        self._on_the_way: set[Key] = set()  # of which a portion is being let go
        self._watched: dict[Key, asyncio.TimerHandle] = {}

    def begin(self, key: Key) -> None:
        """This lane is back."""
        self._lanes.add(key)
        self._release(key, PORTION)

    def release_all(self, connector: str) -> None:
        """Let go of all that is held for a connector, whatever is known of its lanes."""
        self._release((connector, ""), ALL)

    def stop(self, key: Key, until: float) -> None:
        """This lane is down until then, and a recipient is held for it."""
        self._lanes.discard(key)
        if key not in self._watched:
            self._watch(key, until)

    def more(self) -> None:
        """There is room for more."""
        for key in list(self._lanes):
            self._release(key, PORTION)

    def end(self) -> None:
        """Watch no longer."""
        for timer in self._watched.values():
            timer.cancel()

    def _release(self, key: Key, most: int) -> None:
        if key in self._on_the_way:
            return
        self._on_the_way.add(key)
        now = self._clock.now()
        self._submit(Change(released=[(now, *key, most)]), partial(self._released, key, now))

    def _released(self, key: Key, now: float, error: KiteError | None) -> None:
        if error is not None:  # a store that fails must not be asked again and again
            self._supervisor.later(AGAIN_SECONDS, partial(self._try_again, key))
            return
        self._on_the_way.discard(key)
        if not self._reader.holds(*key):
            self._lanes.discard(key)
        self._due(now)

    def _try_again(self, key: Key) -> None:
        self._on_the_way.discard(key)
        if key in self._lanes:
            self._release(key, PORTION)

    def _watch(self, key: Key, until: float) -> None:
        delay = self._clock.real_delay(until + GRACE_SECONDS)
        self._watched[key] = self._supervisor.later(delay, partial(self._look, key))

    def _look(self, key: Key) -> None:
        """See that somebody tries a lane whose time has come: of those that are held, nobody would."""
        later: float | None = self._clock.now()  # whatever is raised here, it is looked at again
        del self._watched[key]
        try:
            later = self._looked_at(key)
        finally:
            if later is not None:
                self._watch(key, later)

    def _looked_at(self, key: Key) -> float | None:
        """When it is to be looked at again; None where there is nothing to be watched."""
        now = self._clock.now()
        if key in self._lanes or not self._reader.holds(*key):
            return None
        later = self._next_try(key)
        if later is None or later < now:
            self._release(key, 1)
            return now
        return later
