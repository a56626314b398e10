"""A report, made of the hourly counts, the journal and the queue."""

from __future__ import annotations

import re
from collections import Counter, defaultdict
from dataclasses import dataclass, field
from datetime import datetime

from copper_kite.report.delays import delays_of
from copper_kite.report.model import AllowanceUse, Outage, Reason, Report, Row
from copper_kite.report.period import HOUR, Period
from copper_kite.report.usual import unusual_senders
from copper_kite.settings import Loaded
from copper_kite.store import CountFilter, Reader
from copper_kite.trace import used_allowances
from copper_kite.verdict import judge_attempt
from copper_kite.words import OUTCOMES, Cause, Event, Stage

__all__ = ["make_report"]

_REPLY = re.compile(r"(\d{3})(?: (\d\.\d+\.\d+))? ([a-z]+)")
_CAUSES = {cause.value for cause in Cause}
_ALL = ("outcome", "connector", "who", "domain", "reason")


@dataclass(slots=True)
class _Sums:
    """Counts of a period, summed in every way that a report needs."""

    totals: Counter[str] = field(default_factory=Counter)
    octets: int = 0
    by: dict[str, dict[str, Counter[str]]] = field(default_factory=lambda: defaultdict(lambda: defaultdict(Counter)))
    octets_by: dict[str, Counter[str]] = field(default_factory=lambda: defaultdict(Counter))
    reasons: dict[str, Counter[str]] = field(default_factory=lambda: defaultdict(Counter))
    connector_of: dict[str, str] = field(default_factory=dict)  # of a reason, one that it came by
    refusals: Counter[tuple[str, str]] = field(default_factory=Counter)

    def add(self, outcome: str, connector: str, who: str, domain: str, reason: str, count: int, octets: int) -> None:
        self.totals[outcome] += count
        for kind, name in (("connector", connector), ("who", who), ("domain", domain)):
            if name:
                self.by[kind][name][outcome] += count
                if outcome == "relayed":
                    self.octets_by[kind][name] += octets
        if outcome == "relayed":
            self.octets += octets
        elif outcome == "refused":
            self.refusals[who, reason] += count
        elif outcome != "accepted":
            self.reasons[reason][outcome] += count
            self.connector_of.setdefault(reason, connector)


def make_report(reader: Reader, loaded: Loaded, period: Period, now: float, only: CountFilter | None = None) -> Report:
    """The report on a period. Raises StoreError."""
    only = only or CountFilter()
    sums, before = _summed(reader, period, only), _summed(reader, period.before, only)
    by_hour, by_week, first = _by_time(reader, period, only)
    steps, steps_by_hour = _delay_steps(reader, period, only)
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
        delays=[delays_of(name, of) for name, of in sorted(steps.items())],
        reasons=_reasons(sums),
        refusals=[(who, reason, count) for (who, reason), count in sums.refusals.most_common()],
        outages=[
            outage for outage in _outages(reader, period) if not only.connector or outage.connector == only.connector
        ],
        allowances=_allowances(reader, loaded, now, only.connector),
        unusual=unusual_senders(reader, period, now, only),
        by_hour=by_hour,
        by_week=by_week,
        delay_steps=dict(steps.get("", {})),
        delay_steps_by_hour=steps_by_hour,
        waiting=summary.messages,
        oldest=summary.oldest,
        counted_since=None if first is None else first * HOUR,
    )


def _summed(reader: Reader, period: Period, only: CountFilter) -> _Sums:
    sums = _Sums()
    for outcome, *row in reader.summed_counts(period.since, period.until, _ALL, only):
        if outcome in OUTCOMES:
            sums.add(outcome, *row)
    return sums


def _by_time(
    reader: Reader, period: Period, only: CountFilter
) -> tuple[dict[str, list[int]], list[list[int]], int | None]:
    """The outcomes of each hour; the messages accepted by weekday and hour of the day; and the first hour with any."""
    by_hour = {outcome: [0] * period.hours for outcome in OUTCOMES}
    by_week, first = [[0] * 24 for _ in range(7)], None
    for hour, outcome, count, _ in reader.summed_counts(period.since, period.until, ("hour", "outcome"), only):
        if outcome not in OUTCOMES:
            continue
        first = hour if first is None else min(first, hour)
        by_hour[outcome][hour - period.since] += count
        if outcome == "accepted":
            when = datetime.fromtimestamp(hour * HOUR)
            by_week[when.weekday()][when.hour] += count
    return by_hour, by_week, first


def _delay_steps(
    reader: Reader, period: Period, only: CountFilter
) -> tuple[dict[str, Counter[int]], list[Counter[int]]]:
    """Recipients by the step of their delay: for each connector and (under no name) for all, and for each hour of the
    period. Senders and domains have none of their own."""
    steps: dict[str, Counter[int]] = defaultdict(Counter)
    by_hour: list[Counter[int]] = [Counter() for _ in range(period.hours)]
    if only.who or only.domain:
        return steps, by_hour
    rows = reader.summed_counts(period.since, period.until, ("hour", "connector", "delay"), only, "delay")
    for hour, connector, delay, count, _ in rows:
        steps[""][delay] += count
        steps[connector][delay] += count
        by_hour[hour - period.since][delay] += count
    return steps, by_hour


def _rows(sums: _Sums, kind: str) -> list[Row]:
    """The largest first: by the number relayed, then by all else."""
    rows = [Row(name, counts, sums.octets_by[kind][name]) for name, counts in sums.by[kind].items()]
    return sorted(rows, key=lambda row: (-row.counts["relayed"], -sum(row.counts.values()), row.name))


# --- reasons --------------------------------------------------------------------------------------------------------


def _reasons(sums: _Sums) -> list[Reason]:
    results = [
        _judged(reason, counts["delayed"], counts["failed"], sums.connector_of[reason])
        for reason, counts in sums.reasons.items()
    ]
    return sorted(results, key=lambda row: (-row.failed - row.delayed, row.reason))


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
    results: list[Outage] = []
    events = [*reader.noted(Event.DOWN, 0.0), *reader.noted(Event.BACK, 0.0)]
    for entry in sorted(events, key=lambda entry: entry.at):
        if entry.at >= period.end:
            break
        key = entry.facts["connector"], entry.facts["next_hop"]
        if entry.event is Event.DOWN:
            down.setdefault(key, Outage(*key, entry.at, None, entry.facts.get("text", "")))
        elif (outage := down.pop(key, None)) is not None and entry.at > period.start:
            results.append(outage._replace(until=entry.at))
    return sorted([*results, *down.values()], key=lambda outage: outage.since)


def _allowances(reader: Reader, loaded: Loaded, now: float, only: str) -> list[AllowanceUse]:
    uses = []
    connectors = [entry for entry in loaded.settings.connector if not only or entry.name == only]
    for connector, allowance, used in used_allowances(reader, connectors, now):
        end = allowance.window(now)[1]
        rate = reader.relayed_since(connector, now - 24 * HOUR) / (24 * HOUR)
        left = max(allowance.count - used, 0)
        at = now + left / rate if left and rate else now if not left else end
        uses.append(AllowanceUse(connector, str(allowance), used, allowance.count, at if at < end else None))
    return uses
