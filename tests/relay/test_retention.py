"""How long things are kept: the content of what failed, and the record of what has ended."""

from __future__ import annotations

from functools import partial
from pathlib import Path

import pytest

from copper_kite.net.authority import CertificateFiles
from copper_kite.session.standin import Rule
from copper_kite.smtp.replies import Reply
from copper_kite.store import Attempt, Reader, open_store
from copper_kite.store.sqlite.segments import Extents
from copper_kite.words import FINAL, Event, Side, State
from tests.relay.test_relay import letter, records, story, talk
from tests.support import PatientClock, Site, StoppedClock, converse, site


def holds_content(here: Site, messages: int, reader: Reader) -> bool:
    return sum(bool(list(reader.content(record.message.id))) for record in records(here)) == messages


async def test_what_failed_is_let_go_in_the_end(folder: Path, authority: CertificateFiles) -> None:
    """`keep_failed`."""
    extra = '[retry]\nkeep_failed = "1h"\n'

    clock = StoppedClock()
    rules = (Rule("gone@*", Reply(550, "5.1.1", "no")),)
    async with site(folder, authority, rules=rules, clock=clock, extra=extra) as here:
        await converse(
            here.port,
            talk(letter("gone@x.example", sender=""), letter("late@x.example", "gone@x.example", sender="")),
        )
        await here.until(lambda reader: not reader.queue() and len(reader.queue(tuple(FINAL))) == 3)
        for hours, kept in ((0.9, 2), (1.1, 0)):
            clock.time += hours * 3600
            here.service.retention.sweep()
            await here.until(partial(holds_content, here, kept))


@pytest.mark.data_folder
async def test_content_that_cannot_be_read_holds_its_own_message_alone(
    folder: Path, authority: CertificateFiles, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Q-12: it waits, with a verdict that says why; what waited with it goes on, and so does what comes."""
    rules = (Rule("late@*", Reply(451, "4.7.1", "later"), times=2),)

    read, first = Extents.read, []

    def spoilt(extents: Extents, segment: int, start: int, size: int) -> bytes:
        first.append((segment, start))
        if (segment, start) == first[0]:
            raise OSError("input/output error")
        return read(extents, segment, start, size)

    clock = PatientClock()
    async with site(folder, authority, rules=rules, clock=clock) as here:
        await converse(here.port, talk(letter("late@x.example"), letter("late@x.example")))
        await here.until(lambda reader: reader.totals() == {State.DELAYED: 2})
        monkeypatch.setattr(Extents, "read", spoilt)
        clock.time += 100.0
        await converse(here.port, talk(letter("ana@x.example")))
        await here.until(lambda reader: reader.totals() == {State.RELAYED: 2, State.DELAYED: 1})
        await here.until(lambda reader: reader.queue()[0].recipient.attempts == 2)
        told = story(here, records(here)[0])
        assert told.verdict.side is Side.HERE and "input/output error" in told.verdict.meaning
        assert [attempt.cause for attempt in told.attempts] == ["reply", "content cannot be read"]


LATER = Rule("late@*", Reply(451, "4.7.1", "later"))
DAY = 86400.0


def addresses(reader: Reader) -> set[str]:
    return {row.recipient.address for row in reader.queue(tuple(State))}


async def test_what_has_ended_is_forgotten_in_time(folder: Path, authority: CertificateFiles) -> None:
    """By age: the whole of it, and the journal's own; never what still waits, nor what an allowance counts."""
    extra = '[journal]\nkeep = "2d"\n'

    clock = StoppedClock()
    async with site(folder, authority, rules=(LATER,), clock=clock, extra=extra) as here:
        await converse(here.port, talk(letter("ana@x.example"), letter("late@x.example", sender="")))
        await here.until(lambda reader: reader.totals().get(State.RELAYED) == 1 and reader.queue((State.DELAYED,)))
        clock.time += 1.9 * DAY
        await converse(here.port, talk(letter("bo@x.example")))
        await here.until(lambda reader: reader.totals().get(State.RELAYED) == 2)
        here.service.retention.sweep()
        clock.time += 0.2 * DAY
        here.service.retention.sweep()
        await here.until(lambda reader: addresses(reader) == {"late@x.example", "bo@x.example"})
        with here.reader() as reader:
            assert reader.noted(Event.STARTED, 0.0) == []
        history = open_store(here.loaded.store).history()
        attempts = [subject for subject, *_ in history.between(0.0, clock.time) if isinstance(subject, Attempt)]
        history.close()
        assert {attempt.message for attempt in attempts} <= {record.message.id for record in records(here)}


async def test_an_allowance_keeps_what_it_counts(folder: Path, authority: CertificateFiles) -> None:
    """A month's allowance cannot be counted from what was forgotten after an hour."""
    extra = 'allowance = "9000/month"\n[journal]\nkeep = "1h"\nmax_size = 1\n'

    clock = StoppedClock()  # in the middle of a month
    async with site(folder, authority, clock=clock, extra=extra) as here:
        await converse(here.port, talk(letter("ana@x.example")))
        await here.until(lambda reader: reader.totals().get(State.RELAYED) == 1)
        for days in (1, 32):
            clock.time += days * DAY
            here.service.retention.sweep()
            await here.until(lambda reader, days=days: bool(addresses(reader)) == (days == 1))


async def test_the_oldest_goes_first_when_there_is_no_room(folder: Path, authority: CertificateFiles) -> None:
    """By size, though it is not old; what waits stays."""
    extra = '[journal]\nmax_size = "1KiB"\n'

    clock = StoppedClock()
    async with site(folder, authority, rules=(LATER,), clock=clock, extra=extra) as here:
        await converse(here.port, talk(letter("ana@x.example"), letter("late@x.example")))
        await here.until(lambda reader: reader.totals().get(State.RELAYED) == 1 and reader.queue((State.DELAYED,)))
        clock.time += 60.0
        here.service.retention.sweep()
        await here.until(lambda reader: addresses(reader) == {"late@x.example"})
