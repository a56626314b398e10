"""The output of `kite report`, as text and as JSON."""

from __future__ import annotations

import time
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from copper_kite.cli.output.show import echo, json_time, local_time, print_table, say, size
from copper_kite.clock import span_text
from copper_kite.words import OUTCOMES

if TYPE_CHECKING:
    from copper_kite.report import Outage, Report, Row

__all__ = ["report_json", "show_report"]

MOST_ROWS = 10  # of a table
WEEKDAYS = ("Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun")
HOUR = 3600.0


def show_report(report: Report) -> None:
    """All of it, the most important first."""
    period = report.period
    say((f"Mail in {period.title}", "bold"), f"  {_moment(period.start)} to {_moment(period.end)}")
    if report.counted_since is None:
        say("Nothing was counted in this period.")
    _show_totals(report)
    _show_reasons(report)
    _show_outages(report.outages, report.now)
    _show_unusual(report)
    _show_rows("by connector", "connector", report.connectors, ("relayed", "delayed", "failed"))
    _show_rows("by sender", "sender", report.senders)
    _show_rows("by recipient's domain", "domain", report.domains)
    _show_delays(report)
    _show_busiest(report)
    _show_refusals(report)
    _show_allowances(report)
    oldest = f", the oldest since {local_time(report.oldest, report.now)}" if report.oldest is not None else ""
    _title("waiting now")
    say(f"{report.waiting:,} message{'' if report.waiting == 1 else 's'}{oldest}")


def _moment(at: float) -> str:
    return time.strftime("%Y-%m-%d %H:%M", time.localtime(at))


def _title(text: str) -> None:
    echo()
    say((text[:1].upper() + text[1:], "bold"))


def _show_totals(report: Report) -> None:
    echo()
    rows = [
        (outcome, f"{report.totals[outcome]:,}", f"{report.totals_before[outcome]:,}", _change(report, outcome))
        for outcome in OUTCOMES
    ]
    relayed = ("octets relayed", size(report.octets), size(report.octets_before), "")
    print_table(("recipients", "now", "before", "change"), [*rows, relayed], right=("now", "before", "change"))


def _change(report: Report, outcome: str) -> str:
    now, before = report.totals[outcome], report.totals_before[outcome]
    return f"{(now - before) / before:+.0%}" if before else "" if not now else "new"


def _show_rows(title: str, name: str, rows: Sequence[Row], outcomes: Sequence[str] = OUTCOMES) -> None:
    if not rows:
        return
    _title(title)
    print_table(
        (name, *outcomes, "size"),
        [
            (row.name, *(f"{row.counts[outcome]:,}" for outcome in outcomes), size(row.octets))
            for row in rows[:MOST_ROWS]
        ],
        right=(*outcomes, "size"),
    )
    _more(len(rows))


def _more(count: int) -> None:
    if count > MOST_ROWS:
        say(f"… and {count - MOST_ROWS} more; --json has all")


def _show_reasons(report: Report) -> None:
    if not report.reasons:
        return
    _title("delayed and failed")
    for reason in report.reasons[:MOST_ROWS]:
        counts = ", ".join(f"{n:,} {word}" for n, word in ((reason.failed, "failed"), (reason.delayed, "delayed")) if n)
        say(
            (reason.reason or "no reason given", "yellow"),
            f"  {counts}  side {reason.side.value if reason.side else 'unknown'}",
        )
        if reason.meaning:
            say(reason.meaning, indent=2)
        if reason.next:
            echo(f"    {reason.next}")
        elif reason.advice:
            say(f"next: {reason.advice}", indent=2)
    _more(len(report.reasons))


def _show_outages(outages: Sequence[Outage], now: float) -> None:
    if not outages:
        return
    _title("outages")
    print_table(
        ("since", "lasted", "connector", "next hop", "what it said"),
        [
            (local_time(outage.since, now), _lasted(outage, now), outage.connector, outage.next_hop, outage.text)
            for outage in outages[-MOST_ROWS:]
        ],
    )


def _lasted(outage: Outage, now: float) -> str:
    return span_text(outage.until - outage.since) if outage.until is not None else "until now"


def _show_unusual(report: Report) -> None:
    if not report.unusual:
        return
    _title("more or less than usual")
    print_table(
        ("sender", "sent", "usual", "usual range"),
        [
            (item.who, f"{item.sent:,}", f"{item.expected:,.0f}", f"{item.low:,.0f} to {item.high:,.0f}")
            for item in report.unusual[:MOST_ROWS]
        ],
        right=("sent", "usual"),
    )


def _show_delays(report: Report) -> None:
    if not report.delays:
        return
    _title("from submission to relay")
    print_table(
        ("connector", "relayed", "median", "95 %", "99 %", "at most"),
        [
            (
                delay.name or "all",
                f"{delay.recipients:,}",
                *map(_span, (delay.median, delay.p95, delay.p99, delay.largest)),
            )
            for delay in report.delays
        ],
        right=("relayed", "median", "95 %", "99 %", "at most"),
    )


def _span(seconds: float) -> str:
    return f"{seconds:.1f}s" if seconds < 10 else span_text(seconds)


def _show_busiest(report: Report) -> None:
    hours = sorted(enumerate(report.by_hour["accepted"]), key=lambda pair: -pair[1])[:3]
    words = [f"{_hour(report, hour)} ({count:,})" for hour, count in hours if count]
    if words:
        _title("busiest hours")
        say(", ".join(words))


def _hour(report: Report, hour: int) -> str:
    return time.strftime("%a %d %b %H:00", time.localtime(report.period.start + hour * HOUR))


def _show_refusals(report: Report) -> None:
    if not report.refusals:
        return
    _title("refused by listeners")
    rows = [(who or "-", reason, f"{count:,}") for who, reason, count in report.refusals[:MOST_ROWS]]
    print_table(("client", "reply", "times"), rows, right=("times",))
    _more(len(report.refusals))


def _show_allowances(report: Report) -> None:
    if not report.allowances:
        return
    _title("allowances")
    print_table(
        ("connector", "allowance", "used", "at this rate"),
        [
            (
                allowance.connector,
                allowance.allowance,
                f"{allowance.used:,}",
                _used_up(allowance.used_up_at, report.now),
            )
            for allowance in report.allowances
        ],
        right=("used",),
    )


def _used_up(at: float | None, now: float) -> str:
    return "it lasts" if at is None else "used up" if at <= now else f"used up {local_time(at, now)}"


def report_json(report: Report) -> dict[str, Any]:
    """The report as JSON values."""
    period = report.period
    return {
        "since": json_time(period.start),
        "until": json_time(period.end),
        "counted_since": json_time(report.counted_since) if report.counted_since is not None else None,
        "totals": report.totals,
        "totals_before": report.totals_before,
        "octets": report.octets,
        "octets_before": report.octets_before,
        **{
            kind: [{"name": row.name, **{outcome: row.counts[outcome] for outcome in OUTCOMES}, "octets": row.octets}
                   for row in rows]
            for kind, rows in (
                ("connectors", report.connectors), ("senders", report.senders), ("domains", report.domains)
            )
        },
        "delays": [{**delay._asdict(), "name": delay.name or None} for delay in report.delays],
        "reasons": [{**item._asdict(), "side": item.side.value if item.side else None} for item in report.reasons],
        "refusals": [{"client": who, "reply": reason, "count": count} for who, reason, count in report.refusals],
        "outages": [
            {
                **outage._asdict(),
                "since": json_time(outage.since),
                "until": json_time(outage.until) if outage.until else None,
            }
            for outage in report.outages
        ],
        "allowances": [
            {**allowance._asdict(), "used_up_at": json_time(allowance.used_up_at)}
            for allowance in report.allowances
        ],
        "unusual": [item._asdict() for item in report.unusual],
        "by_hour": report.by_hour,
        "by_week": dict(zip(WEEKDAYS, report.by_week, strict=True)),
        "waiting": report.waiting,
        "oldest": json_time(report.oldest) if report.oldest is not None else None,
    }  # fmt: skip
