"""What stops a lane is written once, and once more when that changes, also on a disk that fails meanwhile."""

from __future__ import annotations

import asyncio
from collections.abc import Callable

from copper_kite.errors import KiteError, StoreFull
from copper_kite.relay import stops as module
from copper_kite.relay.backlog import Key
from copper_kite.relay.stops import Stops, unsent_stop
from copper_kite.relay.supervisor import Supervisor
from copper_kite.store import StartLane, StopLane, Transaction
from copper_kite.words import Cause
from tests.looping import happens
from tests.support import PatientClock

BEACON, DEAD = ("beacon", ""), ("direct", "dead.example")


class _Log:
    def write(self, *given: object, **named: object) -> None:
        raise AssertionError(f"nothing goes wrong here: {given} {named}")


class Desk:
    """Stops above a store that is asked by hand."""

    def __init__(self) -> None:
        self.clock = PatientClock(1000.0)
        self.asked: list[tuple[Transaction, Callable[[KiteError | None], None]]] = []
        self.looked: list[Key] = []
        supervisor = Supervisor(_Log())  # type: ignore[arg-type]
        self.stops = Stops(
            self.clock,
            supervisor,
            lambda change, done: self.asked.append((change, done)),
            self.looked.append,  # type: ignore[arg-type]
        )

    def stop(self, lane: Key, until: float) -> None:
        self.stops.stop(unsent_stop(lane, Cause.ALLOWANCE_USED, "used", self.clock.time, until))

    async def written(self, error: KiteError | None = None) -> tuple[list[Key], list[Key]]:
        """What is asked of the store next, which is answered: the lanes that stop, and those that start."""
        async with asyncio.timeout(10):
            while not self.asked:
                await asyncio.sleep(0)
        change, done = self.asked.pop(0)
        done(error)
        stopped = [(item.stop.connector, item.stop.domain) for item in change if isinstance(item, StopLane)]
        return stopped, [tuple(item) for item in change if isinstance(item, StartLane)]  # type: ignore[misc]


async def test_facts_are_written_together_and_again_after_a_failure(monkeypatch: object) -> None:

    monkeypatch.setattr(module, "AGAIN_SECONDS", 0.0)  # type: ignore[attr-defined]

    desk = Desk()
    desk.stop(BEACON, 1060.0)
    desk.stop(DEAD, 1060.0)
    await asyncio.sleep(0)
    desk.stops.start(DEAD)  # while the two are being written
    desk.stop(BEACON, 1200.0)
    assert await desk.written(StoreFull("no room")) == ([BEACON, DEAD], [])
    assert await desk.written() == ([BEACON], [DEAD])
    await asyncio.sleep(0)
    assert not desk.asked, "nothing else is to be said"
    assert desk.stops.of(BEACON) is not None and desk.stops.of(DEAD) is None
    assert desk.stops.start(DEAD) is None
    desk.stops.end()


async def test_a_lane_is_looked_at_when_its_time_is_over_and_not_before() -> None:

    desk = Desk()
    desk.stop(BEACON, 1060.0)
    desk.stop(DEAD, 1060.0)
    for _ in range(3):  # turns of the loop, in which a timer that is due would run
        await asyncio.sleep(0)
    assert desk.looked == []
    desk.stops.tried(DEAD, 7)
    assert desk.stops.start(DEAD) == [7]
    desk.clock.time = 1060.0
    await happens(lambda: desk.looked == [BEACON])
    desk.stop(BEACON, 1500.0)
    desk.stops.try_now(BEACON)
    await happens(lambda: desk.looked == [BEACON, BEACON])
    desk.stops.end()


async def test_a_stop_of_a_connector_is_one_of_all_its_domains() -> None:

    desk = Desk()
    desk.stop(("direct", ""), 1060.0)
    assert desk.stops.of(DEAD) is not None and desk.stops.of(BEACON) is None
    desk.stop(DEAD, 1060.0)
    desk.stops.clock_stepped(500.0)
    stop = desk.stops.of(DEAD)
    assert stop is not None and (stop.since, stop.until) == (1500.0, 1560.0)
    desk.stops.start_all(["direct"])
    assert not desk.stops
    desk.stops.end()
