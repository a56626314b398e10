"""How much may leave in a period: the rest waits for the next one, oldest first, and says so."""

from __future__ import annotations

import time
from pathlib import Path

import pytest

from copper_kite.net.authority import CertificateFiles
from copper_kite.relay.ledger import Ledger
from copper_kite.relay.service import Service
from copper_kite.session.standin import PUT_OFF, Rule
from copper_kite.settings.load import load_configuration
from copper_kite.settings.units import Allowance, parse_allowance
from copper_kite.words import State
from tests.relay.test_relay import letter, talk
from tests.support import StoppedClock, converse, site

NOON = time.mktime((2026, 5, 4, 12, 30, 0, 0, 0, -1))


def at(*parts: int) -> float:
    return time.mktime((*parts, 0, 0, 0, 0, -1))


def test_periods_are_those_of_the_calendar() -> None:
    assert parse_allowance("50/hour").window(NOON) == (at(2026, 5, 4, 12), at(2026, 5, 4, 13))
    assert parse_allowance("300/day").window(NOON) == (at(2026, 5, 4, 0), at(2026, 5, 5, 0))
    assert parse_allowance("9000/month").window(at(2026, 12, 31, 23)) == (at(2026, 12, 1, 0), at(2027, 1, 1, 0))
    for wrong in ("300", "0/day", "3/week", "-1/day", 300):
        with pytest.raises(ValueError, match=r"allowance|nothing"):
            parse_allowance(wrong)


def test_the_ledger_counts_what_left_before_it_began() -> None:
    day, hour = Allowance(10, "day"), Allowance(4, "hour")
    ledger = Ledger([day, hour], lambda since: 8 if since == day.window(NOON)[0] else 1)
    assert ledger.full_until(2, NOON) is None
    ledger.take(2)
    assert ledger.full_until(1, NOON) is None and ledger.crowded(1)  # those on their way may yet come back
    ledger.settle(2, relayed=1)
    assert ledger.full_until(1, NOON) is None and not ledger.crowded(1)
    ledger.settle(0, relayed=1)
    assert ledger.full_until(1, NOON) == (day, at(2026, 5, 5, 0))  # of two that are full, the longer one
    assert ledger.nearly_used() == [(day, 10)] and ledger.nearly_used() == []  # told once
    fresh = Ledger([Allowance(3, "day")], lambda since: 0)
    assert fresh.full_until(50, NOON) is None  # more than a whole period allows: alone, in an unused one


async def test_what_exceeds_it_waits_for_the_next_period_through_a_restart(
    folder: Path, authority: CertificateFiles
) -> None:

    clock = StoppedClock(NOON)
    rule = Rule("later@*", PUT_OFF)
    extra = f'allowance = ["2/day"]\n[retry]\nnotice_after = "1d"\n[log]\nto = "file:{folder}/kite.log"\n'
    async with site(folder, authority, rules=(rule,), clock=clock, extra=extra) as here:
        await converse(here.port, talk(letter("later@x.example")))  # not relayed: it does not count
        await here.until(lambda reader: [row.recipient.state for row in reader.queue()] == [State.DELAYED])
        for name in ("a", "b", "c", "d"):
            await converse(here.port, talk(letter(f"{name}@x.example")))
        await here.until_caught(2)
        midnight = at(2026, 5, 5, 0)

        def waits(reader: object) -> bool:
            rows = reader.queue()  # type: ignore[attr-defined]
            return [row.recipient.next_try for row in rows[1:]] == [midnight, midnight]

        await here.until(waits)
        with here.reader() as reader:
            row = reader.queue()[-1]
            assert "allowance 2/day is used up until Tue, 05 May 2026 00:00:00" in row.recipient.reply
            assert row.recipient.attempts == 0
        await here.service.stop(1.0)
        clock.time = midnight + 1.0
        again = await Service.start(here.loaded, clock)
        caught = await here.until_caught(4)
        assert sorted(message.recipients[0][0] for message in caught) == ["a", "b", "c", "d"]
        await again.stop(1.0)
        told = (folder / "kite.log").read_text()
        assert told.count("connector=beacon allowance=2/day used=2") == 2, "once in each period"


@pytest.mark.parametrize(("becomes", "left"), [('allowance = ["3/day"]', 3), ("", 4)])
async def test_what_waits_for_an_allowance_leaves_when_that_is_raised_or_removed(
    folder: Path, authority: CertificateFiles, becomes: str, left: int
) -> None:
    """At once, up to the new bound; the rest still waits for the next period."""

    allowance = 'allowance = ["1/day"]'
    async with site(folder, authority, clock=StoppedClock(NOON), extra=f"{allowance}\n") as here:
        for name in ("a", "b", "c", "d"):
            await converse(here.port, talk(letter(f"{name}@x.example")))
        await here.until(lambda reader: reader.totals() == {State.RELAYED: 1, State.DELAYED: 3})
        here.loaded.path.write_text(here.loaded.path.read_text().replace(allowance, becomes))
        await here.service.reload(load_configuration(here.loaded.path))
        rest = {State.DELAYED: 4 - left} if left < 4 else {}
        await here.until(lambda reader: reader.totals() == {State.RELAYED: left} | rest)
