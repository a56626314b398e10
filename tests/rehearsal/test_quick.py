"""The quick lanes of a rehearsal against the lanes of a server: the same worlds end alike."""

from __future__ import annotations

import random
from dataclasses import replace
from statistics import fmean

import pytest

from copper_kite.rehearsal.arrivals import Arrival
from copper_kite.rehearsal.measures import Measures
from copper_kite.rehearsal.next_hops import Away, HopModel, Outcome, Refusal, Slow
from copper_kite.rehearsal.run import World, run_once
from copper_kite.smtp.replies import Reply
from tests.configuration import connector
from tests.rehearsal.worlds import BEGIN, configured, poisson

LATER, NEVER = Reply(451, "4.3.0", "later"), Reply(550, "5.1.1", "nobody")


def _world(dice: random.Random) -> World:
    """Any configuration, and next hops that do anything."""
    keys: dict[str, object] = {"sessions": dice.choice([1, 2, 7])}
    if dice.random() < 0.3:
        keys["pace"] = dice.choice(["1/s", "40/m"])
    if dice.random() < 0.3:
        keys["allowance"] = [dice.choice(["150/hour", "400/day"])]
    hosts = ["a.example:25", "b.example:25"][: dice.choice([1, 1, 2])]
    loaded = configured(
        connector("harbour", "c.example:25", recipients=["crew.example"]),
        hosts=hosts,
        spread=len(hosts) > 1 and dice.random() < 0.3,
        retry={"waits": ["1m", "5m"], "lifetime": "3h", "notice_after": "20m"},
        **keys,
    )
    return World(
        loaded=loaded,
        hops={str(hop): _model(dice) for item in loaded.settings.connector for hop in item.next_hops},
        since=BEGIN,
        until=BEGIN + 3600.0,
        trouble=(BEGIN + 600.0, BEGIN + 2400.0),
    )


def _model(dice: random.Random) -> HopModel:
    model = HopModel(service=sorted(dice.uniform(0.05, 3.0) for _ in range(5)))
    if dice.random() < 0.5:
        begin = BEGIN + dice.uniform(0, 2000)
        model.away = [Away(begin, begin + dice.uniform(60, 1500), dice.random() < 0.3)]
    if dice.random() < 0.3:
        model.slow = [Slow(BEGIN + 300, BEGIN + 900, 4.0)]
    if dice.random() < 0.4:
        model.refusals = [Refusal("crew.example", dice.choice([LATER, NEVER]), BEGIN + 500, BEGIN + 2000)]
    if dice.random() < 0.5:
        model.first = {"passenger.example": [Outcome(0.2, LATER), Outcome(0.05, NEVER)]}
        model.later = {"passenger.example": [Outcome(0.1, LATER)]}
    if dice.random() < 0.2:
        model.interval = 2.0
    return model


def _arrivals(seed: int) -> list[Arrival]:
    entry = poisson(0.1, 3600.0, seed, "passenger.example", "crew.example")
    other = poisson(0.05, 3600.0, seed + 1, who="rota")
    many = [
        item._replace(recipients=("a@passenger.example", "b@crew.example", "c@passenger.example"), priority=4)
        for item in poisson(0.02, 3600.0, seed + 2, who="lists")
    ]
    return sorted([*entry, *other, *many])


def _delays(measures: Measures) -> dict[str, float]:
    return {who: fmean(values) for (who, _), values in sorted(measures.delays.items())}


@pytest.mark.parametrize("seed", range(25))
def test_quick_lanes_come_to_the_same(seed: int) -> None:
    """However the next hops behave; only the order of what happens at one instant may be another."""
    world = _world(random.Random(seed))
    models = {where: replace(model) for where, model in world.hops.items()}
    quick = run_once(world, iter(_arrivals(seed)), seed)
    whole = run_once(replace(world, hops=models), iter(_arrivals(seed)), seed, quick=False)
    assert whole.relayed
    assert quick.submitted == whole.submitted and quick.largest == whole.largest
    for name in ("relayed", "expired", "refused", "attempts", "delay_notices", "failure_notices"):
        assert getattr(quick, name) == pytest.approx(getattr(whole, name), abs=3), name
    assert [stop.cause for stop in quick.stops] == [stop.cause for stop in whole.stops]
    assert _delays(quick) == pytest.approx(_delays(whole), rel=0.05)
