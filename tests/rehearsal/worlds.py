"""Small worlds for tests of rehearsals."""

from __future__ import annotations

import random
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

from copper_kite.rehearsal.arrivals import Arrival
from copper_kite.rehearsal.measures import Measures
from copper_kite.rehearsal.next_hops import HopModel
from copper_kite.rehearsal.run import World
from copper_kite.settings.load import Loaded, load_source
from tests.configuration import connector, site_text, table

__all__ = ["BEGIN", "HOP", "all_delays", "configured", "poisson", "world_of"]

BEGIN = 1_800_000_000.0 - 1_800_000_000.0 % 3600  # of an hour
HOP = "out.beaconpost.example:587"


def configured(*more: str, hosts: Sequence[str] = (HOP,), retry: dict[str, Any] | None = None, **keys: Any) -> Loaded:
    """A server with the connector `beacon`, and what else is said."""
    text = site_text(connector("beacon", *hosts, **keys), table("[retry]", **(retry or {})), *more, bind="127.0.0.1:25")
    return load_source(Path("kite.toml"), text, secrets=False)


def world_of(loaded: Loaded, seconds: float, *, trouble: tuple[float, float] | None = None, **model: Any) -> World:
    """A world in which all next hops are alike; `trouble` is counted from the beginning."""
    hops = {str(hop): HopModel(**model) for item in loaded.settings.connector for hop in item.next_hops}
    span = None if trouble is None else (BEGIN + trouble[0], BEGIN + trouble[1])
    return World(loaded=loaded, hops=hops, since=BEGIN, until=BEGIN + seconds, trouble=span)


def poisson(rate: float, seconds: float, seed: int, *domains: str, who: str = "ticketing") -> Iterator[Arrival]:
    """Messages to one recipient each, `rate` in a second."""
    dice, at = random.Random(seed), BEGIN
    names = domains or ("passenger.example",)
    while (at := at + dice.expovariate(rate)) < BEGIN + seconds:
        yield Arrival(at, who, f"{who}@ternferries.example", (f"r@{dice.choice(names)}",))


def all_delays(measures: Measures) -> list[float]:
    """The delays of all that was relayed."""
    return [delay for delays in measures.delays.values() for delay in delays]
