"""The hourly counts: they come with what they count, and the journal counted anew comes to the same."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable
from pathlib import Path

import pytest

from copper_kite.net.authority import CertificateFiles
from copper_kite.session.standin import Rule
from copper_kite.smtp.replies import Reply
from copper_kite.store import CountFilter, HourlyCount, delay_of_step, open_store, step_of_delay
from copper_kite.store.shared.counting import Counts, KnownKeys, add_to
from copper_kite.store.sqlite.kinds import hourly
from copper_kite.store.sqlite.schema import connect_writer
from copper_kite.words import State
from tests.relay.test_relay import ended, letter, talk
from tests.support import JumpingClock, converse, site

RULES = (
    Rule("gone@*", Reply(550, "5.1.1", "no mailbox")),
    Rule("late@*", Reply(451, "4.7.1", "later"), times=2),
)
ALL = 0, 2**40


def summed(counts: Iterable[HourlyCount]) -> Counter[tuple[str, str, str, str]]:
    total: Counter[tuple[str, str, str, str]] = Counter()
    for count in counts:
        total[count.outcome, count.who, count.domain, count.reason] += count.recipients
    return total


async def test_what_happens_is_counted_and_the_journal_says_the_same(folder: Path, authority: CertificateFiles) -> None:
    async with site(folder, authority, rules=RULES, clock=JumpingClock()) as here:
        await converse(
            here.port,
            talk(
                letter("a@x.example", "b@Y.example"),
                letter("gone@x.example"),
                letter("late@x.example"),
                letter("c@x.example"),
            ),
        )
        await converse(here.port, b"EHLO x\r\nMAIL FROM:<a@b.example>\r\nRCPT TO:<bad@@x>\r\nQUIT\r\n")
        await here.until(ended(6))
        here.service.refusals.flush()
        with here.reader() as reader:
            await here.until(lambda reader: any(item.outcome == "refused" for item in reader.hourly(*ALL)))
            kept = sorted(reader.hourly(*ALL))
            anew = sorted(reader.recounted(*ALL))
        assert kept == anew
        total = summed(kept)
        assert (
            total["accepted", "127.0.0.1", "x.example", ""] == 4
            and total["accepted", "127.0.0.1", "y.example", ""] == 1
        )
        assert (
            total["relayed", "127.0.0.1", "x.example", ""] == 3 and total["relayed", "127.0.0.1", "y.example", ""] == 1
        )
        assert total["failed", "127.0.0.1", "x.example", "550 5.1.1 recipient"] == 1
        assert total["delayed", "127.0.0.1", "x.example", "451 4.7.1 recipient"] == 2
        assert sum(item.recipients for item in kept if item.outcome == "refused") == 1
        notices = [item for item in kept if item.outcome == "relayed" and item.who != "127.0.0.1"]
        assert sum(notice.recipients for notice in notices) == 1, "our own notice leaves, and nobody submitted it"
        delays = [item for item in kept if item.outcome == "delay"]
        assert sum(delay.recipients for delay in delays) == 5 and all(
            delay.connector and not delay.who for delay in delays
        )
        assert all((item.delay >= 0) == (item.outcome == "delay") for item in kept)
        with here.reader() as reader:
            only = CountFilter(domain="*.example", who="127.0.0.1")
            rows = reader.summed_counts(*ALL, ("domain",), only, "relayed")
            assert sorted((domain, count) for domain, count, _ in rows) == [("x.example", 3), ("y.example", 1)]
            assert reader.summed_counts(*ALL, ("outcome",), CountFilter(domain="%.example")) == []
            assert reader.summed_counts(*ALL, ("outcome",), CountFilter(domain="*._.example")) == []
        assert len(here.reader().queue((State.RELAYED,))) == sum(
            item.recipients for item in kept if item.outcome == "relayed"
        )


def test_an_hour_with_very_many_different_ones_stays_small(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Those that come first are counted by themselves; then domains are "other", then senders; the sum is right."""
    hourly._known = KnownKeys()
    monkeypatch.setattr("copper_kite.store.shared.counting.MOST_KEYS", 3)
    counts: Counts = {}
    for number in range(10):
        add_to(counts, (7, "accepted", "", "", f"user{number}", f"site{number}.example", "", -1), 100)
    connection = connect_writer(folder)
    hourly.add_counts(connection, counts)
    hourly.add_counts(connection, counts)
    connection.close()
    with open_store(folder).reader() as reader:
        rows = list(reader.hourly(7, 8))
    assert len(rows) == 7 and sum(row.recipients for row in rows) == 20 and sum(row.octets for row in rows) == 2000
    assert {row.who for row in rows} == {*(f"user{number}" for number in range(6)), "other"}
    assert {row.domain for row in rows} == {"site0.example", "site1.example", "site2.example", "other"}
    hourly._known = KnownKeys()


def test_a_next_hop_that_makes_up_codes_fills_no_hour(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    hourly._known = KnownKeys()
    monkeypatch.setattr("copper_kite.store.shared.counting.MOST_KEYS", 3)
    counts: Counts = {}
    for number in range(100):
        key = (7, "delayed", "beacon", "a.example:25", "user", "site.example", f"450 4.7.{number} recipient", -1)
        add_to(counts, key, 100)
    connection = connect_writer(folder)
    hourly.add_counts(connection, counts)
    connection.close()
    with open_store(folder).reader() as reader:
        rows = list(reader.hourly(7, 8))
    assert len(rows) == 7 and sum(row.recipients for row in rows) == 100
    assert [row.recipients for row in rows if row.reason == "other"] == [94]
    hourly._known = KnownKeys()


@pytest.mark.parametrize(("seconds", "step"), [(-5.0, 0), (0.0, 0), (0.1, 0), (1.0, 4), (3.0, 8), (3600.0, 47)])
def test_steps_of_delays(seconds: float, step: int) -> None:
    assert int(step_of_delay(seconds)) == step
    assert delay_of_step(step_of_delay(seconds)) == pytest.approx(max(seconds, 0.0))
