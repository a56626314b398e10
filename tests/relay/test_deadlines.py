"""What waits in the store becomes late, and ends, in time; nothing but places is kept in memory."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence

from hypothesis import given, settings
from hypothesis import strategies as st

from copper_kite.relay.deadlines import FEW, PORTION, Deadlines
from tests.support import PatientClock

LATE, LIFETIME = 100.0, 1000.0


class _Timers:
    def __init__(self) -> None:
        self.left: list[float] = []

    def later(self, seconds: float, call: object) -> asyncio.TimerHandle:
        self.left.append(seconds)
        return _Handle()  # type: ignore[return-value]


class _Handle:
    def cancel(self) -> None:
        """Nobody waits for it."""


class Waits:
    """A store of messages that wait: (arrived, expires) by id, and what was told of them."""

    def __init__(self, lives: Sequence[tuple[float, float]]) -> None:
        self.clock, self.timers = PatientClock(0.0), _Timers()
        self.messages = {id: (at, at + life) for id, (at, life) in enumerate(sorted(lives), 1)}
        self.told: dict[int, list[float]] = {}
        self.deadlines = Deadlines(self.clock, self.timers, self.ages, self.overdue)  # type: ignore[arg-type]
        self.deadlines.take_up(lambda arrived, expires: arrived + LATE, LIFETIME)

    def ages(self, after: int, limit: int) -> list[tuple[int, float, float]]:
        return [(id, *self.messages[id]) for id in sorted(self.messages) if id > after][:limit]

    def overdue(self, ids: Sequence[int]) -> None:
        for id in ids:
            self.told.setdefault(id, []).append(self.clock.time)
            if self.messages[id][1] <= self.clock.time:
                del self.messages[id]


@settings(max_examples=60)
@given(st.lists(st.tuples(st.floats(0, 3000), st.sampled_from([LIFETIME, 50.0, 3 * LIFETIME])), max_size=30))
def test_each_is_told_when_it_is_late_and_when_it_ends(lives: list[tuple[float, float]]) -> None:
    """Whatever lifetimes were those of the day when they came."""
    store = Waits([])
    ordered = sorted(lives)
    for step in range(0, 13_000, 25):
        store.clock.time = float(step)
        for id, (at, life) in enumerate(ordered, 1):
            if step - 25 < at <= step:
                store.messages[id] = at, at + life
        store.deadlines.look()
    assert not store.messages
    for id, (at, life) in enumerate(ordered, 1):
        ended = store.told[id][-1]
        # One that lives shorter than those before it may end with them: at their end at the latest.
        assert at + life <= ended <= at + max(life, LIFETIME) + 25 + (life < LIFETIME) * LIFETIME
        assert any(at + LATE <= when <= at + LATE + 50 for when in store.told[id]) or life < LATE


def test_many_at_once_are_told_in_portions_and_when_it_is_time_again() -> None:
    store = Waits([(float(number), LIFETIME) for number in range(3 * PORTION)])
    store.clock.time = LATE + PORTION + 8.5
    store.deadlines.look()
    assert len(store.told) == FEW and store.timers.left[-1] < 0.01, "more is due now"
    store.deadlines.glance(store.clock.time)
    assert len(store.told) == PORTION + 9 and store.timers.left[-1] == 0.501, "with many at a time"
    store.deadlines.glance(store.clock.time + 0.4)
    assert len(store.told) == PORTION + 9, "it is not time yet"
    store.deadlines.start_over()
    for _ in range(3):
        store.deadlines.look()
    assert all(len(told) == 2 for told in list(store.told.values())[:PORTION]), "from the beginning"
    store.deadlines.end()
    count = len(store.timers.left)
    store.deadlines.arm()
    store.deadlines.look()
    assert len(store.timers.left) == count


def test_nothing_is_looked_for_while_nothing_waits() -> None:
    store = Waits([])
    store.deadlines.look()
    assert store.timers.left == []
    store.deadlines.arm()
    store.deadlines.arm()
    assert len(store.timers.left) == 1
