"""What is held is let go when its lane is back, also on a disk that fails meanwhile."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from copper_kite.errors import KiteError, StoreFull
from copper_kite.relay.returning import PORTION, Returning
from copper_kite.store.model import Change
from tests.support import JumpingClock


class _Timers:
    def __init__(self) -> None:
        self.set: list[Callable[[], None]] = []

    def later(self, seconds: float, call: Callable[[], None]) -> None:
        self.set.append(call)


class _Store:
    def __init__(self) -> None:
        self.fault: KiteError | None = None
        self.portions: list[int] = []
        self.held = 0

    def submit(self, change: Change, done: Callable[[KiteError | None], None]) -> None:
        ((_, _, _, most),) = change.released
        self.portions.append(most)
        if self.fault is None:
            self.held -= min(most, self.held)
        done(self.fault)

    def holds(self, connector: str, domain: str = "") -> bool:
        return self.held > 0


def test_a_store_that_fails_is_asked_again_after_a_while_and_not_at_once() -> None:
    timers, store = _Timers(), _Store()
    parts: list[Any] = [JumpingClock(), timers, store.submit, store, lambda key: None]
    returning = Returning(*parts, lambda now: returning.more())
    store.held, store.fault = 2 * PORTION, StoreFull("no room")
    returning.begin(("beacon", ""))
    returning.more()
    assert store.portions == [PORTION] and len(timers.set) == 1
    store.fault = None
    timers.set.pop()()
    assert store.held == 0 and store.portions == [PORTION] * 3 and not timers.set
