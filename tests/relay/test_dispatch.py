"""What is taken in hand, and when: more than there is room for, and recipients of one message at different times."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from dataclasses import dataclass, field
from pathlib import Path

import pytest

from copper_kite.relay import supply
from copper_kite.relay.delivery import AttemptFailure, Report
from copper_kite.relay.dispatch import Dispatcher
from copper_kite.relay.job import Job
from copper_kite.relay.lane import Lane
from copper_kite.relay.log import open_log
from copper_kite.settings.load import load_configuration
from copper_kite.smtp.replies import Reply
from copper_kite.smtp.transaction import Result
from copper_kite.store import AddMessage, Done, IdMaker, Message, Recipient, SetState, Transaction, open_store
from copper_kite.words import Cause, Stage, State
from tests.support import PatientClock, free_port, whole, write_site

CREW = '[[connector]]\nname = "crew"\nhosts = ["localhost:9"]\ntls = "off"\nrecipients = ["crew.example"]\n'


@dataclass
class Desk:
    """A dispatcher whose lanes only keep what they are given, above a store without a server."""

    folder: Path
    clock: PatientClock
    jobs: list[Job] = field(default_factory=list)
    dispatcher: Dispatcher | None = None

    def message(self, id: int, *addresses: str) -> AddMessage:
        """One that is on stable storage."""
        now = self.clock.time
        message = Message(id, now, now + 9e5, "a@x.example", 3, False, False, "<m>", "l", "unix", "h", "", "ESMTP")
        recipients = [Recipient(id, n, address, next_try=now) for n, address in enumerate(addresses, 1)]
        open_store(self.folder).write([whole(message, recipients, b"abc")])
        return AddMessage(message, recipients, b"abc")

    def submit(self, change: Transaction, done: Done) -> None:
        assert open_store(self.folder).write([change]) == [None]
        asyncio.get_running_loop().call_soon(done, None)

    def put_off(self, job: Job) -> None:
        """An attempt that came to nothing."""
        assert self.dispatcher is not None
        stop = AttemptFailure(stage=Stage.CONNECT, cause=Cause.CONNECTION_REFUSED, text="refused")
        self.dispatcher.report(None, Report(job, self.clock.time, 0.0, stop=stop))

    def relay(self, job: Job) -> None:
        """An attempt that went well."""
        assert self.dispatcher is not None
        reply = Reply(250, "2.0.0", "taken")
        results = [Result(recipient.address, Stage.ACCEPT, reply) for recipient in job.recipients]
        self.dispatcher.report(None, Report(job, self.clock.time, 0.0, results=results))

    async def until_given(self, count: int) -> None:
        """Let the loop turn until the lanes were given so many jobs."""
        async with asyncio.timeout(10):
            while len(self.jobs) < count:
                await asyncio.sleep(0)

    async def look(self) -> None:
        """Have the dispatcher look for what is due."""
        assert self.dispatcher is not None
        self.dispatcher.start()
        for _ in range(3):
            await asyncio.sleep(0)

    @property
    def carried(self) -> list[tuple[int, list[str]]]:
        return [(job.message.id, [recipient.address for recipient in job.recipients]) for job in self.jobs]


@asynccontextmanager
async def desk(folder: Path, monkeypatch: pytest.MonkeyPatch) -> AsyncIterator[Desk]:
    here = Desk(folder / "queue", PatientClock())
    monkeypatch.setattr(Lane, "add", lambda lane, job: here.jobs.append(job))
    loaded = load_configuration(write_site(folder, free_port(), tls="off", extra=f'recipients = ["x.example"]\n{CREW}'))
    open_store(here.folder).write([[]])
    log = open_log(loaded.settings.log, folder, "quay1", here.clock.now)
    with open_store(here.folder).reader() as reader:
        here.dispatcher = Dispatcher(loaded, here.submit, reader, IdMaker(), here.clock, log)
        yield here
        await here.dispatcher.stop(1.0)


async def test_what_there_is_no_room_for_is_fetched_in_its_turn(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """In the order in which they came to wait, also one that took longer to come whole than others after it."""
    monkeypatch.setattr(supply, "MAX_IN_HAND", 2)
    monkeypatch.setattr(supply, "SURE_PLACES", 2)
    monkeypatch.setattr(supply, "SENDER_PLACES", 0)

    async with desk(folder, monkeypatch) as here:
        assert here.dispatcher is not None
        for id in (5, 6, 7):
            here.message(id, "r@x.example")
        here.dispatcher.start()
        await here.until_given(2)
        here.dispatcher.offer(here.message(3, "r@x.example"))
        await asyncio.sleep(0)
        await asyncio.sleep(0)
        for number, count in enumerate((3, 4)):
            here.put_off(here.jobs[number])
            await here.until_given(count)
        assert [id for id, _ in here.carried] == [5, 6, 7, 3]


async def test_a_recipient_that_is_due_while_another_is_on_its_way_has_its_turn(
    folder: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """At once: what the others of the same message do is their lane's affair."""

    async with desk(folder, monkeypatch) as here:
        assert here.dispatcher is not None
        fresh = here.message(5, "r@x.example", "s@crew.example")
        here.dispatcher.offer(fresh)
        await here.until_given(2)
        here.put_off(here.jobs[0])
        here.clock.time += 400.0
        await here.until_given(3)
        assert here.carried[2] == (5, ["r@x.example"])
        here.relay(here.jobs[1])
        here.relay(here.jobs[2])
        await here.look()
        await here.look()
        assert len(here.jobs) == 3, "each once"


async def test_a_recipient_that_is_due_while_another_one_is_tried_again_has_its_turn(
    folder: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The same for what was fetched from the store, while the other one was not due yet."""

    async with desk(folder, monkeypatch) as here:
        assert here.dispatcher is not None
        here.message(5, "r@x.example", "s@crew.example")
        times = ((1, here.clock.time + 50.0), (2, here.clock.time + 60.0))
        delayed = [SetState(5, n, State.DELAYED, 1, at, "beacon", "", here.clock.time) for n, at in times]
        open_store(here.folder).write([[*delayed]])
        here.dispatcher.start()
        here.clock.time += 55.0
        await here.until_given(1)
        here.clock.time += 10.0
        await here.until_given(2)
        assert here.carried == [(5, ["r@x.example"]), (5, ["s@crew.example"])]


async def test_a_recipient_that_need_not_wait_any_longer_has_its_turn_when_its_message_is_free(
    folder: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """What makes it due, another configuration say, comes while another recipient is on its way."""

    async with desk(folder, monkeypatch) as here:
        assert here.dispatcher is not None
        monkeypatch.setattr(here.clock, "real_delay", lambda until: 60.0 if until > here.clock.time else 0.0)
        here.dispatcher.offer(here.message(5, "nobody@y.example", "s@crew.example"))
        await here.until_given(1)
        loaded = load_configuration(
            write_site(folder, free_port(), tls="off", extra=f'recipients = ["y.example"]\n{CREW}')
        )
        here.dispatcher.reload(loaded)
        here.relay(here.jobs[0])
        await here.until_given(2)
        assert here.carried[1] == (5, ["nobody@y.example"])
