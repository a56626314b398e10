"""Reports: from hourly counts, the journal and the queue to numbers and findings; and the command."""

from __future__ import annotations

import json
import time
from collections.abc import Iterator, Sequence
from fnmatch import fnmatchcase
from pathlib import Path
from typing import Any

import pytest

from copper_kite.net.authority import CertificateFiles
from copper_kite.report import compare_counts, last_days, make_report, one_day, since_until
from copper_kite.settings.load import Loaded, load_configuration
from copper_kite.store import CountFilter, HourlyCount, JournalEntry
from copper_kite.store.model import QueueSummary
from copper_kite.words import Event, Side
from tests.support import kite, running, write_site

NOW = 1_780_000_000.0
HOUR = int(NOW) // 3600
WEEK = 168


def counted(outcome: str, hour: int = HOUR - 1, recipients: int = 1, **more: object) -> HourlyCount:
    known = {"connector": "", "next_hop": "", "who": "ticketing", "domain": "x.example", "reason": "", "delay": -1}
    return HourlyCount(hour, outcome, **{**known, **more}, recipients=recipients, octets=100 * recipients)  # type: ignore[arg-type]


def relayed(recipients: int = 1, hour: int = HOUR - 1, **more: object) -> HourlyCount:
    return counted("relayed", hour, recipients, **{"connector": "beacon", **more})


def took(recipients: int, delay: int, hour: int = HOUR - 1) -> HourlyCount:
    return counted("delay", hour, recipients, connector="beacon", who="", domain="", delay=delay)


class Counts:
    """What a reader has of counts, the journal and the queue."""

    def __init__(self, *counts: HourlyCount, journal: tuple[JournalEntry, ...] = (), relayed: int = 0) -> None:
        self.counts, self.journal, self.relayed = counts, journal, relayed
        self.anew: tuple[HourlyCount, ...] = counts

    def hourly(self, since: int, until: int) -> Iterator[HourlyCount]:
        return (count for count in self.counts if since <= count.hour < until)

    def summed_counts(
        self, since: int, until: int, by: Sequence[str], only: CountFilter | None = None, outcome: str = ""
    ) -> list[tuple[Any, ...]]:
        """As the store's; `tests/relay/test_hourly.py` has that of the store."""
        sums: dict[tuple[Any, ...], list[int]] = {}
        connector, who, domain = only or CountFilter()
        for count in self.hourly(since, until):
            if (count.outcome == outcome or not outcome) and all(
                not wanted or fnmatchcase(has, wanted)
                for wanted, has in ((connector, count.connector), (who, count.who), (domain, count.domain))
            ):
                sum_ = sums.setdefault(tuple(getattr(count, name) for name in by), [0, 0])
                sum_[0] += count.recipients
                sum_[1] += count.octets
        return [(*key, *of) for key, of in sums.items()]

    def recounted(self, since: int, until: int) -> Iterator[HourlyCount]:
        return (item for item in self.anew if since <= item.hour < until)

    def noted(self, event: Event, since: float) -> list[JournalEntry]:
        return [entry for entry in self.journal if entry.event is event]

    def relayed_since(self, connector: str, since: float) -> int:
        return self.relayed

    def summary(self) -> QueueSummary:
        return QueueSummary(messages=3, oldest=NOW - 60)


@pytest.fixture
def loaded(folder: Path) -> Loaded:
    config = write_site(folder, 2525, tls="off", extra='allowance = "100/day"\n')
    return load_configuration(config, secrets=False)


def made(loaded: Loaded, reader: Counts, only: CountFilter | None = None, days: int = 1):  # type: ignore[no-untyped-def]
    return make_report(reader, loaded, last_days(days, NOW), NOW, only)  # type: ignore[arg-type]


def test_totals_stand_beside_those_of_the_period_before(loaded: Loaded) -> None:
    report = made(
        loaded,
        Counts(counted("accepted", recipients=5), relayed(4), relayed(2, hour=HOUR - 25), relayed(9, hour=HOUR - 60)),
    )
    assert report.totals == {"accepted": 5, "relayed": 4, "delayed": 0, "failed": 0, "refused": 0}
    assert report.totals_before["relayed"] == 2 and (report.octets, report.octets_before) == (400, 200)
    assert sum(report.by_hour["accepted"]) == 5 and len(report.by_hour["accepted"]) == 24
    assert sum(map(sum, report.by_week)) == 5 and report.waiting == 3


def test_those_that_relay_most_come_first_and_a_filter_narrows_all(loaded: Loaded) -> None:
    counts = Counts(
        relayed(4),
        relayed(9, connector="harbour", domain="port.example", who="rota"),
        counted("accepted", recipients=20),
    )
    report = made(loaded, counts)
    assert [row.name for row in report.connectors] == ["harbour", "beacon"]
    assert [(row.name, row.counts["relayed"], row.octets) for row in report.domains] == [
        ("port.example", 9, 900), ("x.example", 4, 400),
    ]  # fmt: skip
    for only, total in (
        (CountFilter(connector="beacon"), 4),
        (CountFilter(domain="*.example"), 13),
        (CountFilter(who="rota"), 9),
    ):
        assert made(loaded, counts, only).totals["relayed"] == total, only


def test_delays_are_told_by_their_share(loaded: Loaded) -> None:
    """The step of a delay is known, and no more: a fifth of it is what a quantile may be off."""
    report = made(loaded, Counts(took(90, 4), took(9, 26), took(1, 47)))
    of_all = report.delays[0]
    assert of_all.recipients == 100 and 1.0 <= of_all.median <= 1.4 and 89 <= of_all.p95 <= 108
    assert 105 <= of_all.p99 <= 108 and 3400 < of_all.largest < 4200


def test_reasons_are_judged(loaded: Loaded) -> None:
    report = made(
        loaded,
        Counts(
            counted("failed", connector="beacon", reason="550 5.1.1 recipient", recipients=2),
            counted("delayed", connector="beacon", reason="connection refused", recipients=7),
            counted("failed", reason="something else"),
        ),
    )
    worst, gone, odd = report.reasons
    assert (worst.reason, worst.delayed, worst.side) == ("connection refused", 7, Side.PATH)
    assert worst.advice and "beacon" in worst.meaning
    assert (gone.failed, gone.side) == (2, Side.NEXT_HOP) and gone.meaning and (odd.side, odd.meaning) == (None, "")


def test_outages_have_a_length(loaded: Loaded) -> None:
    def entry(event: Event, ago: float, hop: str = "h:587") -> JournalEntry:
        return JournalEntry(
            at=NOW - ago, event=event, facts={"connector": "beacon", "next_hop": hop, "text": "refused"}
        )

    journal = (
        entry(Event.DOWN, 90_000), entry(Event.BACK, 80_000),  # over before the period
        entry(Event.DOWN, 40_000), entry(Event.DOWN, 39_000), entry(Event.BACK, 30_000),
        entry(Event.DOWN, 500, "other:25"),
    )  # fmt: skip
    outages = made(loaded, Counts(journal=journal)).outages
    assert [(outage.next_hop, outage.until and outage.until - outage.since) for outage in outages] == [
        ("h:587", 10_000), ("h:587", 10_000), ("other:25", None),
    ][-len(outages):]  # fmt: skip
    assert made(loaded, Counts(journal=journal), CountFilter(connector="harbour")).outages == []


@pytest.mark.parametrize(("used", "told"), [(10, False), (60, True), (100, True)])
def test_when_an_allowance_is_used_up(loaded: Loaded, used: int, told: bool) -> None:
    """At the rate of the last day, before its period ends or not; NOW is 20:26 UTC."""
    (use,) = made(loaded, Counts(relayed=used)).allowances
    assert (use.used, use.most) == (used, 100)
    end = use.used_up_at is not None
    assert end is told or used == 60  # it depends on how far the local day has come


def test_who_sends_more_than_usual(loaded: Loaded) -> None:
    """A script that was hijacked stands out; one that always sends much on that day of the week does not."""
    counts = []
    for week in range(1, 9):
        for hour in range(HOUR - 23 - week * WEEK, HOUR + 1 - week * WEEK):
            counts += [
                counted("accepted", hour, 100 + week, who="lists"),
                counted("accepted", hour, 2, who="tidewatch"),
            ]
    for hour in range(HOUR - 23, HOUR):
        counts += [counted("accepted", hour, 103, who="lists"), counted("accepted", hour, 90, who="tidewatch")]
    report = made(loaded, Counts(*counts))
    assert [(item.who, item.sent) for item in report.unusual] == [("tidewatch", 23 * 90)]
    assert report.unusual[0].high < 200
    quiet = made(loaded, Counts(*(count for count in counts if count.hour < HOUR - 24 or count.who != "lists")))
    assert [item.who for item in quiet.unusual] == ["lists", "tidewatch"], "silence is unusual, too"
    young = [count for count in counts if count.hour > HOUR - 24 - 2 * WEEK]
    assert made(loaded, Counts(*young)).unusual == [], "nothing is usual after two weeks"


def test_periods_are_whole_hours() -> None:
    assert last_days(7, NOW).hours == 168 and last_days(1, NOW).before.until == last_days(1, NOW).since
    assert one_day(NOW).hours in (23, 24, 25) and one_day(NOW).start <= NOW < one_day(NOW).end
    assert since_until(NOW, NOW + 1).hours == 1 and since_until(NOW - 7200, NOW).until == HOUR + 1
    with pytest.raises(ValueError, match="ends before"):
        since_until(NOW, NOW)


def test_counts_that_differ_from_the_journal_are_told() -> None:
    reader = Counts(relayed(4), counted("failed", recipients=2))
    assert compare_counts(reader, HOUR - 9, HOUR) == (6, [])  # type: ignore[arg-type]
    reader.anew = (relayed(4), counted("failed", recipients=3))
    assert compare_counts(reader, HOUR - 9, HOUR)[1] == [(HOUR - 1, "failed", 2, 3)]  # type: ignore[arg-type]


def test_the_command(folder: Path, authority: CertificateFiles) -> None:
    config = write_site(folder, 1, tls="off", extra='[retry]\nwaits = ["1h"]\n')
    with running(config):
        assert kite("pipe", "ana@x.example", stdin=b"Subject: x\n\nhi\n", config=config).returncode == 0
        end = time.monotonic() + 60
        while not (result := json.loads(kite("report", "--json", config=config).stdout))["reasons"]:
            assert time.monotonic() < end
    assert result["totals"]["accepted"] == 1 and result["totals"]["delayed"] == 1
    assert result["outages"][0]["connector"] == "beacon" and result["outages"][0]["until"] is None
    shown = kite("report", "--day", config=config).stdout.decode()
    assert "connection refused  1 delayed  side path" in shown and "until now" in shown
    verified = kite("report", "--verify", config=config)
    assert verified.returncode == 0 and b"are what the journal says: 2 recipients" in verified.stdout
    assert kite("report", "--day", "--week", config=config).returncode == 2
    assert kite("report", "--to", "nobody.example", "--json", config=config).stdout.count(b'"accepted": 0') > 1
