"""The load and the past that a scenario asks for."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from datetime import datetime
from typing import NamedTuple

from copper_kite.errors import InputError, RehearsalFailed, StoreError
from copper_kite.rehearsal.fit import Fit, fit_load
from copper_kite.rehearsal.instants import DAY, midnight
from copper_kite.rehearsal.loads import Replay, Steady
from copper_kite.rehearsal.past import Past, days_to_read, read_past
from copper_kite.rehearsal.scenario import Scenario
from copper_kite.rehearsal.world import Basis, Load, period_of
from copper_kite.routing import Router
from copper_kite.settings import Loaded
from copper_kite.store import StorePlace, open_store

__all__ = ["LoadUsed", "basis_of"]


class LoadUsed(NamedTuple):
    """Where the load comes from, in words; how well a model fits, where there is one; and the attempts by connector
    that the models of next hops come from."""

    words: str
    fit: Fit | None
    samples: Mapping[str, int]
    unreachable: Mapping[str, int]  # those that no next hop took part in, which are left out


def basis_of(loaded: Loaded, scenario: Scenario, place: StorePlace, now: float) -> tuple[Basis, LoadUsed]:
    """Read what the scenario needs of the past. Raises InputError, RehearsalFailed, and StoreError while it reads."""
    since, until = period_of(scenario, now)
    if scenario.rate is not None:
        steady = Steady(scenario.load / scenario.rate.interval, _address(loaded, scenario))
        return Basis(loaded, steady, Past(0.0, 0.0), since, until), LoadUsed(f"{scenario.rate} messages", None, {}, {})
    store = open_store(place)
    try:
        reads = store.reader()
    except StoreError as error:
        raise RehearsalFailed(f"{error}; without a history, say how much arrives, as in --rate 600/h") from error
    with reads as reader:
        since_when = now - days_to_read(reader, now) * DAY
        if scenario.replay:
            since_when = min(since_when, _replayed_from(scenario))
        past = read_past(store, since_when, now)
        fit: Fit | None = None
        load: Load
        if scenario.replay:
            load = _replay(past, scenario, until - since)
            words = f"messages of {scenario.replay} and after, again"
        else:
            model, fit = fit_load(reader, past, now)
            load = replace(model, scale=scenario.load)
            words = f"a model of {fit.hours} hours of history, {load.by_day:,.0f} recipients a day"
    samples = {name: hop.samples for name, hop in past.hops.items() if hop.samples}
    unreachable = {name: hop.unreachable for name, hop in past.hops.items()}
    return Basis(loaded, load, past, since, until), LoadUsed(words, fit, samples, unreachable)


def _replayed_from(scenario: Scenario) -> float:
    try:
        return midnight(datetime.fromisoformat(scenario.replay).timestamp())
    except (ValueError, OverflowError):
        raise InputError(f"replay: {scenario.replay!r} is no day; write it as 2026-11-02", usage=True) from None


def _replay(past: Past, scenario: Scenario, seconds: float) -> Replay:
    since = _replayed_from(scenario)
    messages = [arrival for arrival in past.arrivals() if since <= arrival.at < since + seconds]
    if not messages:
        raise RehearsalFailed(f"nothing was submitted from {scenario.replay} on that the journal still has")
    return Replay(sorted(messages), since, seconds / DAY, scenario.load)


def _address(loaded: Loaded, scenario: Scenario) -> str:
    """An address in a domain that the scenario has refused, or whose mail goes by a connector that it is about; else by
    the first connector."""
    connectors = [item for item in loaded.settings.connector if item.enabled and item.name not in scenario.without]
    router = Router(connectors)
    for refused in scenario.refuse:  # else nothing would be refused
        if router.carrier(address := _fitting(refused.domain), "program@localhost"):
            return address
    hosts = {hop.host: item.name for item in connectors if not item.mx for hop in item.next_hops}
    wanted = [hosts.get(name, name) for name in scenario.named] + [
        item.name for item in connectors if "*" in item.recipients
    ]
    for name in [*wanted, *(item.name for item in connectors)]:
        for item in connectors:
            for pattern in item.recipients if item.name == name else ():
                address = _fitting(pattern)
                if router.carrier(address, "") == name or router.carrier(address, "program@localhost") == name:
                    return address
    raise InputError("no connector carries anything; see `kite connector list`")


def _fitting(pattern: str) -> str:
    """An address that a pattern of recipients fits."""
    if "@" in pattern:
        return pattern
    domain = pattern.replace("*.", "any.", 1) if pattern.startswith("*.") else pattern
    return f"somebody@{'recipient.example' if domain == '*' else domain}"
