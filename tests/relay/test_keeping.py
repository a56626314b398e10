"""Submissions while the database of a shared queue is away: `away = "wait"` and `away = "keep"`."""

from __future__ import annotations

import asyncio
from collections.abc import Iterator
from pathlib import Path

import pytest

from copper_kite.demo.database import DatabaseServer, NoDatabase
from copper_kite.relay import keeping
from copper_kite.relay import service as service_module
from copper_kite.store import open_store
from copper_kite.store.postgres import shared_writer
from copper_kite.words import State
from tests.looping import SECONDS, happens
from tests.relay.test_relay import letter, talk
from tests.relay.test_shared import Quays, quays
from tests.support import converse


@pytest.fixture
def away(database: DatabaseServer, monkeypatch: pytest.MonkeyPatch) -> Iterator[DatabaseServer]:
    """A database that a test stops; it runs again for the next one."""
    monkeypatch.setattr(keeping, "AWAY_SECONDS", 0.05)
    monkeypatch.setattr(service_module, "RECORD_STOP_SECONDS", 0.1)
    monkeypatch.setattr(shared_writer, "FINISH_SECONDS", 0.1)
    yield database
    try:
        database.sql("SELECT 1")
    except NoDatabase:
        database.start()


async def _waits(here: Quays) -> None:
    """Until the writer has a batch that it cannot write."""
    writer = here.services[-1].writer
    async with asyncio.timeout(SECONDS):
        await happens(lambda: writer.waiting and writer.begun < float("inf"))
    await asyncio.sleep(0.1)  # the database counts as away


@pytest.mark.parametrize("restarted", [False, True])
async def test_what_is_kept_goes_to_the_database_when_it_is_back_and_leaves_once(
    folder: Path, store_url: str, away: DatabaseServer, restarted: bool
) -> None:
    async with quays(folder, store_url) as here:
        service = await here.start("quay1", server={"away": "keep"})
        await converse(service.endpoints[0].port, talk(letter("first@crew.example")))
        await here.until(lambda reader: reader.totals() == {State.RELAYED: 1})
        away.stop("immediate")
        port = service.endpoints[0].port
        waiting = asyncio.create_task(converse(port, talk(letter("waits@crew.example"))))
        await _waits(here)
        heard = await converse(port, talk(letter("kept1@crew.example"), letter("kept2@crew.example")))
        assert heard.count(b" kept as ") == 2 and not waiting.done()
        assert [message.recipients for message in here.caught] == [("first@crew.example",)], (
            "nobody sends what is in no queue"
        )
        if restarted:
            await service.stop(0.5)
            away.start()
            service = here.services[0] = await here.start_again("quay1")
        else:
            away.start()
            assert b" kept as " in await waiting
        await here.until(lambda reader: reader.totals().get(State.RELAYED, 0) >= 3 and not reader.summary().messages)
        with open_store(service.loaded.data).reader() as reader:
            async with asyncio.timeout(SECONDS):
                await happens(lambda: not reader.waiting_of(""))
        copies = sorted(message.recipients[0].partition("@")[0] for message in here.caught)
        assert copies == ["first", "kept1", "kept2", *(["waits"] if not restarted else [])]
        waiting.cancel()


async def test_programs_wait_and_are_answered_when_the_database_is_back(
    folder: Path, store_url: str, away: DatabaseServer
) -> None:
    """What came before the limit is taken after all; what would have to wait longer is put off."""
    async with quays(folder, store_url) as here:
        service = await here.start("quay1", server={"longest_wait": "1s"})
        port = service.endpoints[0].port
        away.stop("immediate")
        waiting = asyncio.create_task(converse(port, talk(letter("a@crew.example"))))
        await _waits(here)
        service.room.longest_wait = 0.01
        assert b"\r\n451 4.3.0 " in await converse(port, talk(letter("b@crew.example")))
        away.start()
        assert b" kept as " in await waiting
        await here.until(lambda reader: reader.totals() == {State.RELAYED: 1})
