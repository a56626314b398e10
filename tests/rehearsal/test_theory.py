"""Rehearsals against queueing theory: waits with Poisson arrivals, and an allowance against its closed form."""

from __future__ import annotations

import pytest

from copper_kite.rehearsal.measures import SAMPLES
from copper_kite.rehearsal.run import run_once
from tests.rehearsal.theory import TABLE, erlang_wait, measured_waits
from tests.rehearsal.worlds import BEGIN, configured, poisson, world_of


@pytest.mark.parametrize(("sessions", "load", "constant"), TABLE)
def test_waits_are_those_of_theory(sessions: int, load: float, constant: bool) -> None:
    """M/M/c and M/D/c: within 2 % of the recursion over the same messages, whose expectation is that of the formula."""
    waits = measured_waits(sessions, load, constant=constant, messages=20_000, seed=1)
    assert waits.rehearsed == pytest.approx(waits.recursion, rel=0.02)
    assert waits.recursion == pytest.approx(erlang_wait(sessions, load, constant=constant), rel=0.15)


def test_an_allowance_lets_through_what_it_says() -> None:
    """What comes above it adds up; what an hour may relay leaves at its beginning."""
    loaded = configured(allowance=["100/hour"], retry={"notice_after": "5d"})
    world = world_of(loaded, 4 * 3600.0, service=(0.0,), connect=0.0)
    measures = run_once(world, poisson(200 / 3600, 4 * 3600.0, 1), 1)
    hours = [(stop.since - BEGIN) // 3600 for stop in measures.stops]
    assert [stop.until for stop in measures.stops] == [BEGIN + 3600 * (hour + 1) for hour in hours]
    came = [arrival.at - BEGIN for arrival in poisson(200 / 3600, 4 * 3600.0, 1)]
    for hour in (1, 2, 3, 4):
        waiting = measures.waiting[hour * SAMPLES // 4 - 1]  # right before the next hour's allowance
        assert waiting == pytest.approx(sum(at < hour * 3600 for at in came) - 100 * hour, abs=1)
