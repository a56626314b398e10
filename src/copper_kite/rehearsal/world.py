"""A rehearsal: a configuration, next hops, a load and a scenario, ready to be run with any seed."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import NamedTuple, Protocol

from copper_kite.errors import InputError
from copper_kite.rehearsal.arrivals import Arrival, merge
from copper_kite.rehearsal.changes import changed, unknown_name
from copper_kite.rehearsal.instants import DAY, When, first_day, midnight
from copper_kite.rehearsal.loads import BURST_RATE
from copper_kite.rehearsal.measures import Measures
from copper_kite.rehearsal.next_hops import Away, HopModel, Refusal, Slow
from copper_kite.rehearsal.past import Past
from copper_kite.rehearsal.run import World, run_once
from copper_kite.rehearsal.scenario import Scenario
from copper_kite.settings import Connector, Loaded
from copper_kite.smtp import Reply

__all__ = ["Basis", "Load", "Rehearsal", "Trouble", "period_of"]

MAX_DAYS = 400
MOST_MESSAGES = 5_000_000  # of one run: more take hours, and the memory of a queue that holds them


class Load(Protocol):
    """Where messages come from."""

    @property
    def by_day(self) -> float:
        """Recipients of a mean day."""

    @property
    def most_active(self) -> str:
        """The sender with the most recipients."""

    def between(self, since: float, until: float, seed: int) -> Iterator[Arrival]:
        """The messages from `since` to `until`, in the order of time."""

    def burst(self, messages: int, who: str, at: float, rate: float, seed: int) -> Iterator[Arrival]:
        """Messages that come at once."""


class Trouble(NamedTuple):
    """A span of the scenario, for people: what happens, from when to when (seconds since 1970)."""

    kind: str  # "down", "slow", "refused" or "burst", whose name says how many come from whom
    name: str
    since: float
    until: float


@dataclass(frozen=True, slots=True, kw_only=True)
class Rehearsal:
    """What `run` needs. `hops` are by `host:port`; `others` are hosts that DNS would name."""

    loaded: Loaded
    scenario: Scenario
    load: Load
    since: float
    until: float
    hops: Mapping[str, HopModel]
    others: HopModel
    troubles: Sequence[Trouble] = ()

    def run(self, seed: int) -> Measures:
        """One run. The same seed gives the same load and luck under any configuration. Raises RehearsalFailed."""
        over = self.troubles_over
        trouble = (min(item.since for item in over), max(item.until for item in over)) if over else None
        copies = {id(model): replace(model) for model in self.hops.values()}  # they remember when they are free
        world = World(
            loaded=self.loaded,
            hops={where: copies[id(model)] for where, model in self.hops.items()},
            others=replace(self.others),
            since=self.since,
            until=self.until,
            trouble=trouble,
        )
        return run_once(world, self._arrivals(seed), seed)

    @property
    def troubles_over(self) -> list[Trouble]:
        """The troubles that are over before messages cease to arrive."""
        return [trouble for trouble in self.troubles if trouble.until < self.until]

    def model_of(self, connector: Connector) -> HopModel:
        """The first next hop of a connector."""
        return self.others if connector.mx else self.hops[str(connector.next_hop)]

    def _arrivals(self, seed: int) -> Iterator[Arrival]:
        bursts = [
            self.load.burst(
                burst.messages, burst.who or self.load.most_active, burst.at.instant(self.since), BURST_RATE, seed
            )
            for burst in self.scenario.burst
        ]
        steady = self.load.between(self.since, self.until, seed)
        return merge([steady, *bursts]) if bursts else steady


def period_of(scenario: Scenario, now: float) -> tuple[float, float]:
    """When messages begin and end to arrive. Raises InputError."""
    spans: list[tuple[When, float]] = [(item.at, item.seconds) for item in scenario.down]
    spans += [(item.at, item.seconds) for item in scenario.slow if item.seconds is not None]
    spans += [(item.at, item.seconds) for item in scenario.refuse if item.seconds is not None]
    spans += [(item.at, 0.0) for item in scenario.burst]
    try:
        since = first_day(scenario.start, [when for when, _ in spans], now)
    except (ValueError, OverflowError) as error:
        raise InputError(f"start: {error}; write it as mon or 2026-12-01", usage=True) from error
    if scenario.span is not None:
        until = since + scenario.span
    else:
        last = max((when.instant(since) + seconds for when, seconds in spans), default=since)
        until = max(midnight(last, 1), midnight(since, 1))
    if until - since > MAX_DAYS * DAY:
        raise InputError(f"{MAX_DAYS} days are the most that can be rehearsed", usage=True)
    for when, _ in spans:
        if not since <= when.instant(since) < until:
            raise InputError("a part of the scenario lies outside the time that is rehearsed", usage=True)
    return since, until


class Basis(NamedTuple):
    """The basis of rehearsals: the configuration as it is, the load, the past, and the period."""

    loaded: Loaded
    load: Load
    past: Past
    since: float
    until: float

    def prepared(self, scenario: Scenario) -> Rehearsal:
        """Everything ready for a scenario. Raises InputError for names that are not there or far too many messages,
        SettingsError for a configuration that cannot be."""
        messages = self.load.by_day * (self.until - self.since) / DAY + sum(item.messages for item in scenario.burst)
        if messages > MOST_MESSAGES:
            raise InputError(f"{messages:,.0f} messages are too many; {MOST_MESSAGES:,} can be rehearsed", usage=True)
        loaded = changed(self.loaded, scenario)
        others = HopModel()
        hops: dict[str, HopModel] = {}
        by_name: dict[str, list[HopModel]] = {}
        for connector in loaded.settings.connector:
            if connector.enabled and connector.mx:
                others = _model_of(connector, self.past)
                by_name[connector.name] = [others]
            for hop in connector.next_hops if connector.enabled and not connector.mx else ():
                model = hops.setdefault(str(hop), _model_of(connector, self.past))
                by_name.setdefault(connector.name, []).append(model)
                by_name.setdefault(hop.host, []).append(model)
        return Rehearsal(
            loaded=loaded, scenario=scenario, load=self.load, since=self.since, until=self.until, hops=hops,
            others=others, troubles=_apply(scenario, by_name, self.since, self.until),
        )  # fmt: skip


def _model_of(connector: Connector, past: Past) -> HopModel:
    known = past.hops.get(connector.name)
    if known is None or not known.samples:
        return HopModel()
    model = HopModel(service=known.service(), first=known.outcomes(first=True), later=known.outcomes(first=False))
    if known.connects:
        model.connect = sorted(known.connects)[len(known.connects) // 2]
    return model


ByName = Mapping[str, Sequence[HopModel]]


def _apply(scenario: Scenario, by_name: ByName, since: float, until: float) -> list[Trouble]:
    """Give the models what the scenario says of them; its troubles. Raises InputError for a name that is not there."""
    for takes in scenario.service:
        for model in _named(by_name, takes.name):
            if takes.pace is None:
                model.service = (takes.seconds,)
            else:
                model.interval, model.service = takes.pace.interval, (0.0,)
    return [
        *_bursts(scenario, since),
        *_downtimes(scenario, by_name, since),
        *_slowness(scenario, by_name, since, until),
        *_refusals(scenario, by_name, since, until),
    ]


def _named(by_name: ByName, name: str) -> Sequence[HopModel]:
    if name not in by_name:
        raise unknown_name(name, list(by_name), "connector or next hop")
    return by_name[name]


def _bursts(scenario: Scenario, since: float) -> Iterator[Trouble]:
    for burst in scenario.burst:
        begin = burst.at.instant(since)
        name = f"{burst.messages:,} messages{f' of {burst.who}' if burst.who else ''}"
        yield Trouble("burst", name, begin, begin + burst.messages / BURST_RATE)


def _downtimes(scenario: Scenario, by_name: ByName, since: float) -> Iterator[Trouble]:
    for down in scenario.down:
        begin = down.at.instant(since)
        for model in _named(by_name, down.name):
            model.away = sorted([*model.away, Away(begin, begin + down.seconds, down.silent)])
        yield Trouble("down", down.name, begin, begin + down.seconds)


def _slowness(scenario: Scenario, by_name: ByName, since: float, until: float) -> Iterator[Trouble]:
    for slow in scenario.slow:
        begin = since if slow.seconds is None else slow.at.instant(since)
        end = until if slow.seconds is None else begin + slow.seconds
        for model in _named(by_name, slow.name):
            model.slow = sorted([*model.slow, Slow(begin, end, slow.factor)])
        yield Trouble("slow", slow.name, begin, end)


def _refusals(scenario: Scenario, by_name: ByName, since: float, until: float) -> Iterator[Trouble]:
    """Every next hop refuses the domain; without a span, also after the period."""
    every = {id(model): model for group in by_name.values() for model in group}.values()
    for refused in scenario.refuse:
        begin = since if refused.seconds is None else refused.at.instant(since)
        end = until + DAY * MAX_DAYS if refused.seconds is None else begin + refused.seconds
        reply = Reply(refused.code, f"{refused.code // 100}.0.0", "refused in this rehearsal")
        for model in every:
            model.refusals = [*model.refusals, Refusal(refused.domain, reply, begin, end)]
        yield Trouble("refused", refused.domain, begin, end)
