"""Whether a connector can carry what comes for it, by its own numbers: what would do, where it cannot."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import NamedTuple

from copper_kite.rehearsal.next_hops import HopModel
from copper_kite.rehearsal.world import Rehearsal
from copper_kite.settings import Connector

__all__ = ["Overload", "overloads"]

PERIODS = {"hour": 3600.0, "day": 86400.0, "month": 30 * 86400.0}
SPARE = 1.1  # times what comes, so that a queue also becomes shorter again


class Overload(NamedTuple):
    """A connector for which more comes than can ever leave, in recipients an hour; its limit, and what would do."""

    connector: str
    comes: float
    takes: float
    limit: str  # "next hop", "sessions", "pace" or "allowance"
    would_do: str


def overloads(rehearsal: Rehearsal, offered: Mapping[str, float]) -> list[Overload]:
    """The connectors that are offered more recipients in the period than they could carry in it."""
    span = rehearsal.until - rehearsal.since
    results = []
    for connector in rehearsal.loaded.settings.connector:
        if not (comes := offered.get(connector.name, 0.0) / span):
            continue
        limits = _limits(connector, rehearsal.model_of(connector))
        takes, limit = min(((takes, limit) for limit, takes in limits.items()), default=(math.inf, ""))
        if comes > takes:
            would_do = _would_do(connector, rehearsal.model_of(connector), limit, comes * SPARE)
            results.append(Overload(connector.name, comes * 3600, takes * 3600, limit, would_do))
    return results


def _limits(connector: Connector, model: HopModel) -> dict[str, float]:
    """The rate that each limit allows, in messages a second."""
    limits = {}
    factor = max((span.factor for span in model.slow), default=1.0)
    if model.interval:
        limits["next hop"] = 1 / (model.interval * factor)
    if mean := sum(model.service) / len(model.service) * factor:
        limits["sessions"] = connector.sessions / mean
    if connector.pace is not None:
        limits["pace"] = 1 / connector.pace.interval
    if connector.allowance:
        limits["allowance"] = min(item.count / PERIODS[item.period] for item in connector.allowance)
    return limits


def _would_do(connector: Connector, model: HopModel, limit: str, rate: float) -> str:
    """The value that lets `rate` messages leave in a second."""
    if limit == "sessions":
        factor = max((span.factor for span in model.slow), default=1.0)
        return f"sessions = {math.ceil(rate * factor * sum(model.service) / len(model.service))}"
    if limit == "allowance":
        tightest = min(connector.allowance, key=lambda item: item.count / PERIODS[item.period])
        return f"an allowance of {math.ceil(rate * PERIODS[tightest.period])}/{tightest.period}"
    rounded = math.ceil(rate * 3600)
    return f"a pace of {rounded}/h" if limit == "pace" else f"a next hop that takes {rounded}/h"
