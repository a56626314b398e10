"""A report, made of the hourly counts, the journal and the queue."""

from __future__ import annotations

import re
from collections import Counter, defaultdict
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime
from functools import partial
from typing import NamedTuple

from copper_kite.report.model import OUTCOMES, AllowanceUse, Delays, Outage, Reason, Report, Row
from copper_kite.report.period import HOUR, Period
from copper_kite.report.usual import unusual_senders
from copper_kite.routing import any_fits
from copper_kite.settings import Loaded
from copper_kite.store import DELAY_STEPS, HourlyCount, Reader
from copper_kite.verdict import judge_attempt
from copper_kite.words import Cause, Event, Stage

__all__ = ["Filter", "delay_of_step", "make_report"]

_REPLY = re.compile(r"(\d{3})(?: (\d\.\d+\.\d+))? ([a-z]+)")
_CAUSES = {cause.value for cause in Cause}


class Filter(NamedTuple):
    """Which counts are looked at: a connector's; recipients in a domain (`*.domain` for those below it); a sender's."""

    connector: str = ""
    domain: str = ""
    who: str = ""

    def fits(self, one: HourlyCount) -> bool:
        """Whether a count is looked at. What was accepted or refused has no connector."""
        if self.connector and one.connector != self.connector:
            return False
        if self.who and one.who != self.who:
            return False
        return not self.domain or any_fits([self.domain], f"x@{one.domain}")


@dataclass(slots=True)
class _Sums:
    """Counts of a period, summed in every way that a report needs."""

    period: Period
    totals: Counter[str] = field(default_factory=Counter)
    octets: int = 0
    by: dict[str, dict[str, Counter[str]]] = field(default_factory=lambda: defaultdict(lambda: defaultdict(Counter)))
    octets_by: dict[str, Counter[str]] = field(default_factory=lambda: defaultdict(Counter))
    steps: dict[str, Counter[int]] = field(default_factory=lambda: defaultdict(Counter))
    reasons: dict[str, Counter[str]] = field(default_factory=lambda: defaultdict(Counter))
    connector_of: dict[str, str] = field(default_factory=dict)  # of a reason, one that it came by
    refusals: Counter[tuple[str, str]] = field(default_factory=Counter)
    by_hour: dict[str, list[int]] = field(default_factory=dict)
    by_week: list[list[int]] = field(default_factory=lambda: [[0] * 24 for _ in range(7)])
    first: int | None = None

    def add(self, one: HourlyCount) -> None:
        outcome, count = one.outcome, one.recipients
        self.totals[outcome] += count
        self.first = one.hour if self.first is None else min(self.first, one.hour)
        self.by_hour.setdefault(outcome, [0] * self.period.hours)[one.hour - self.period.since] += count
        for kind, name in (("connector", one.connector), ("who", one.who), ("domain", one.domain)):
            if name:
                self.by[kind][name][outcome] += count
                if outcome == "relayed":
                    self.octets_by[kind][name] += one.octets
        if outcome == "relayed":
            self.octets += one.octets
            self.steps[""][one.delay] += count
            self.steps[one.connector][one.delay] += count
        elif outcome == "accepted":
            when = datetime.fromtimestamp(one.hour * HOUR)
            self.by_week[when.weekday()][when.hour] += count
        elif outcome == "refused":
            self.refusals[one.who, one.reason] += count
        else:
            self.reasons[one.reason][outcome] += count
            self.connector_of.setdefault(one.reason, one.connector)


def make_report(reader: Reader, loaded: Loaded, period: Period, now: float, only: Filter | None = None) -> Report:
    """The report on a period. Raises StoreError."""
    only = only or Filter()
    sums, before = _Sums(period), _Sums(period.before)
    for one in reader.hourly(period.before.since, period.until):
        if only.fits(one):
            (sums if one.hour >= period.since else before).add(one)
    summary = reader.summary()
    return Report(
        period=period,
        now=now,
        totals={outcome: sums.totals[outcome] for outcome in OUTCOMES},
        totals_before={outcome: before.totals[outcome] for outcome in OUTCOMES},
        octets=sums.octets,
        octets_before=before.octets,
        connectors=_rows(sums, "connector"),
        senders=_rows(sums, "who"),
        domains=_rows(sums, "domain"),
        delays=[_delays(name, steps) for name, steps in sorted(sums.steps.items()) if steps],
        reasons=_reasons(sums),
        refusals=[(who, reason, count) for (who, reason), count in sums.refusals.most_common()],
        outages=[one for one in _outages(reader, period) if not only.connector or one.connector == only.connector],
        allowances=_allowances(reader, loaded, now, only.connector),
        unusual=unusual_senders(reader, period, now, only.fits),
        by_hour={outcome: sums.by_hour.get(outcome, [0] * period.hours) for outcome in OUTCOMES},
        by_week=sums.by_week,
        delay_steps=dict(sums.steps[""]),
        waiting=summary.messages,
        oldest=summary.oldest,
        counted_since=None if sums.first is None else sums.first * HOUR,
    )


def _rows(sums: _Sums, kind: str) -> list[Row]:
    """Those that count most first: by what was relayed, then by all else."""
    rows = [Row(name, counts, sums.octets_by[kind][name]) for name, counts in sums.by[kind].items()]
    return sorted(rows, key=lambda row: (-row.counts["relayed"], -sum(row.counts.values()), row.name))


# --- delays ---------------------------------------------------------------------------------------------------------


def delay_of_step(step: float) -> float:
    """The seconds at which a step of delays begins."""
    return float(2 ** (step / DELAY_STEPS) - 1)


def _delays(name: str, steps: Counter[int]) -> Delays:
    total, largest = sum(steps.values()), delay_of_step(max(steps) + 1)
    quantile = partial(_quantile, sorted(steps.items()), total)
    return Delays(name, total, quantile(0.5), quantile(0.95), quantile(0.99), largest)


def _quantile(steps: Sequence[tuple[int, int]], total: int, share: float) -> float:
    """Within its step, a delay is taken to be anywhere alike."""
    left = share * total
    for step, count in steps:
        if left <= count:
            return delay_of_step(step + left / count)
        left -= count
    return delay_of_step(steps[-1][0] + 1)


# --- reasons --------------------------------------------------------------------------------------------------------


def _reasons(sums: _Sums) -> list[Reason]:
    found = [
        _judged(reason, counts["delayed"], counts["failed"], sums.connector_of[reason])
        for reason, counts in sums.reasons.items()
    ]
    return sorted(found, key=lambda one: (-one.failed - one.delayed, one.reason))


def _judged(reason: str, delayed: int, failed: int, connector: str) -> Reason:
    match = _REPLY.fullmatch(reason)
    if match is not None:
        cause, stage, code, enhanced = Cause.REPLY, Stage(match[3]), int(match[1]), match[2] or ""
    elif reason in _CAUSES:
        cause, stage, code, enhanced = Cause(reason), Stage.CONNECT, None, ""
    else:
        return Reason(reason, delayed, failed, None, "", "", "")
    facts = {"connector": connector, "next_hop": f"the next hop of {connector}"}
    judged = judge_attempt(stage, cause, code, enhanced, facts)
    meaning = judged.meaning[:1].upper() + judged.meaning[1:]
    return Reason(reason, delayed, failed, judged.side, meaning, judged.next, judged.advice)


# --- outages and allowances -----------------------------------------------------------------------------------------


def _outages(reader: Reader, period: Period) -> list[Outage]:
    """Next hops that were down in the period, also those that went down before it."""
    down: dict[tuple[str, str], Outage] = {}
    found: list[Outage] = []
    events = [*reader.noted(Event.DOWN, 0.0), *reader.noted(Event.BACK, 0.0)]
    for entry in sorted(events, key=lambda entry: entry.at):
        if entry.at >= period.end:
            break
        key = entry.facts["connector"], entry.facts["next_hop"]
        if entry.event is Event.DOWN:
            down.setdefault(key, Outage(*key, entry.at, None, entry.facts.get("text", "")))
        elif (outage := down.pop(key, None)) is not None and entry.at > period.start:
            found.append(outage._replace(until=entry.at))
    return sorted([*found, *down.values()], key=lambda one: one.since)


def _allowances(reader: Reader, loaded: Loaded, now: float, only: str) -> list[AllowanceUse]:
    uses = []
    for connector in loaded.settings.connector:
        for allowance in connector.allowance if not only or connector.name == only else ():
            begin, end = allowance.window(now)
            used = reader.relayed_since(connector.name, begin)
            rate = reader.relayed_since(connector.name, now - 24 * HOUR) / (24 * HOUR)
            left = max(allowance.count - used, 0)
            at = now + left / rate if left and rate else now if not left else end
            used_up = at if at < end else None
            uses.append(AllowanceUse(connector.name, str(allowance), used, allowance.count, used_up))
    return uses
