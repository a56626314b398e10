"""Q-10: the machine's clock is set while the server runs. Spans stay what they were to be, and nobody fails by it."""

from __future__ import annotations

from pathlib import Path

import pytest

from copper_kite.net.authority import CertificateFiles
from copper_kite.relay.gate import Client
from copper_kite.relay.watched import STEP_SECONDS, WatchedClock
from copper_kite.session.standin import Rule
from copper_kite.settings.units import parse_pace
from copper_kite.smtp.replies import Reply
from copper_kite.words import Event, State
from tests.support import PatientClock, Site, converse, site

DAY = 86_400.0
PUT_OFF = Reply(451, "4.7.1", "later")


class SetClock(PatientClock):
    """A clock that a test can set, like an administrator who gets the date wrong."""

    def __init__(self) -> None:
        super().__init__()
        self.set_by = 0.0

    def now(self) -> float:
        return self.time + self.set_by

    def apart(self) -> float:
        return self.set_by


def _steps(here: Site) -> list[float]:
    with here.reader() as reader:
        return [entry.facts["by"] for entry in reader.noted(Event.CLOCK, 0.0)]


def letter(name: str) -> bytes:
    return f"EHLO h\r\nMAIL FROM:<a@b.example>\r\nRCPT TO:<{name}@x.example>\r\nDATA\r\n\r\nx\r\n.\r\nQUIT\r\n".encode()


async def until_state(here: Site, name: str, state: State) -> None:
    def holds(reader: object) -> bool:
        rows = {row.recipient.address: row.recipient.state for row in here.reader().queue(list(State))}
        return rows.get(f"{name}@x.example") is state

    await here.until(holds)


@pytest.mark.parametrize("days", [-1, 10, 400])
async def test_waiting_mail_goes_when_its_wait_is_over_and_never_fails_by_a_step(
    folder: Path, authority: CertificateFiles, days: int
) -> None:

    clock = SetClock()
    rules = (Rule("late*", PUT_OFF, times=1), Rule("never*", PUT_OFF))
    async with site(folder, authority, tls="off", clock=clock, rules=rules, extra='[retry]\nwaits = ["1h"]\n') as here:
        for name in ("late", "never"):
            await converse(here.port, letter(name))
            await until_state(here, name, State.DELAYED)
        clock.set_by = days * DAY
        await here.until(lambda reader: clock.set_by in _steps(here))
        clock.time += 2 * 3600.0
        await until_state(here, "late", State.RELAYED)
        await here.until(lambda reader: all(row.recipient.attempts == 2 for row in reader.queue(list(State))))
        (row,) = [row for row in here.reader().queue() if row.recipient.address.startswith("never")]
        assert row.recipient.state is State.DELAYED, "its lifetime goes on as long as it was to"
        left = row.message.expires - clock.now()
        assert 0 < left - (here.loaded.settings.retry.lifetime - 2 * 3600.0) + 60 < 120


async def test_a_pace_goes_on_after_the_clock_was_set_back(folder: Path, authority: CertificateFiles) -> None:

    clock = SetClock()
    async with site(folder, authority, tls="off", clock=clock) as here:
        shared = next(iter(here.service.listeners.shared.values()))
        shared.listener = shared.listener.model_copy(update={"pace": parse_pace("1/s")})
        ana = Client("192.0.2.7")
        assert [shared.wait_for_pace(ana) for _ in range(3)] == [0.0, 0.0, 1.0]
        clock.set_by = -DAY
        clock.time += 100.0
        assert shared.wait_for_pace(ana) == 0.0


def test_a_step_is_told_before_anybody_computes_with_it_and_drift_is_none() -> None:
    clock = SetClock()
    watched, told = WatchedClock(clock), []
    watched.stepped = lambda by, before: told.append((by, before, clock.time))
    for _ in range(100):
        clock.set_by += 0.9 * STEP_SECONDS
        watched.look()
        assert watched.now() == clock.now()
    assert not told
    clock.set_by -= DAY
    before = clock.now() + DAY
    assert watched.now() == clock.now() and told == [(-DAY, before, clock.time)]
    assert watched.now() == clock.now() and len(told) == 1
