"""The contents of a report as values: numbers and findings, without the words of any output."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import NamedTuple

from copper_kite.report.period import Period
from copper_kite.words import Side

__all__ = ["AllowanceUse", "Delays", "Outage", "Reason", "Report", "Row", "Unusual"]


class Row(NamedTuple):
    """The numbers of one connector, sender or domain: recipients by outcome, octets relayed."""

    name: str
    counts: Mapping[str, int]
    octets: int


class Delays(NamedTuple):
    """How long mail took from its submission to the relay, in seconds."""

    name: str
    recipients: int
    median: float
    p95: float
    p99: float
    largest: float


class Reason(NamedTuple):
    """Why recipients were delayed (each attempt counts) or failed, on whose side it is, and what to do."""

    reason: str
    delayed: int
    failed: int
    side: Side | None
    meaning: str
    next: str
    advice: str


class Outage(NamedTuple):
    """A time in which a next hop was unreachable; `until` is None while it still is."""

    connector: str
    next_hop: str
    since: float
    until: float | None
    text: str


class AllowanceUse(NamedTuple):
    """The used part of an allowance in the current period, and when it will be used up at the rate of the last day;
    None where it will last."""

    connector: str
    allowance: str
    used: int
    most: int
    used_up_at: float | None


class Unusual(NamedTuple):
    """A sender that sent far more or less than it usually does at these hours of the week."""

    who: str
    sent: int
    expected: float
    low: float
    high: float


@dataclass(slots=True)
class Report:
    """The report on a period. Lists are sorted, the largest first."""

    period: Period
    now: float
    totals: Mapping[str, int]
    totals_before: Mapping[str, int]
    octets: int
    octets_before: int
    connectors: Sequence[Row] = ()
    senders: Sequence[Row] = ()
    domains: Sequence[Row] = ()
    delays: Sequence[Delays] = ()
    reasons: Sequence[Reason] = ()
    refusals: Sequence[tuple[str, str, int]] = ()  # who, reason, how many
    outages: Sequence[Outage] = ()
    allowances: Sequence[AllowanceUse] = ()
    unusual: Sequence[Unusual] = ()
    by_hour: Mapping[str, Sequence[int]] = field(default_factory=dict)  # each hour of the period, by outcome
    by_week: Sequence[Sequence[int]] = ()  # accepted, weekday (Monday first) by hour of the day
    delay_steps: Mapping[int, int] = field(default_factory=dict)  # recipients by step (`HourlyCount.delay`)
    delay_steps_by_hour: Sequence[Mapping[int, int]] = ()  # the same for each hour of the period
    waiting: int = 0
    oldest: float | None = None
    counted_since: float | None = None  # what was before is not known
