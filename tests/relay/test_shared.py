"""Servers that share a queue, as whole services: what one accepted another relays, in the allowance of all."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Callable
from contextlib import asynccontextmanager
from pathlib import Path
from typing import Any

import pytest

from copper_kite.cli.commands.trace import load_story
from copper_kite.demo.database import DatabaseServer
from copper_kite.errors import StoreAway
from copper_kite.relay import shared_queue
from copper_kite.relay.leased_content import LeasedContent
from copper_kite.relay.service import Service
from copper_kite.relay.shared_queue import SharedQueue
from copper_kite.session.standin import Caught, StandIn, StandInPlan
from copper_kite.settings.load import load_configuration
from copper_kite.store import AdminRequest, HandOver, open_store, parse_store_url
from copper_kite.words import Action, State
from tests.configuration import connector, site_text
from tests.looping import SECONDS, happens
from tests.relay.test_relay import letter, talk
from tests.support import converse, free_port


class Quays:
    """Services that share a queue, and one next hop."""

    def __init__(self, folder: Path, url: str, hop: int) -> None:
        self.folder, self.url, self.hop = folder, url, hop
        self.caught: list[Caught] = []
        self.services: list[Service] = []

    async def start(
        self, name: str, hop: int | None = None, server: dict[str, object] | None = None, **keys: object
    ) -> Service:
        folder = self.folder / name
        folder.mkdir()
        text = site_text(
            connector("beacon", f"127.0.0.1:{self.hop if hop is None else hop}", tls="off", **keys),
            bind=f"127.0.0.1:{free_port()}", name=f"{name}.ternferries.example",
            server={"store": self.url, "store_tls": "off", **(server or {})},
        )  # fmt: skip
        (folder / "kite.toml").write_text(text + '[retry]\nwaits = ["1s"]\n')
        self.services.append(await self.start_again(name))
        return self.services[-1]

    async def start_again(self, name: str) -> Service:
        return await Service.start(load_configuration(self.folder / name / "kite.toml"))

    async def until(self, holds: Callable[[Any], object]) -> None:
        async with asyncio.timeout(SECONDS):
            with open_store(self.services[0].loaded.store).reader() as reader:
                await happens(lambda: holds(reader))


@asynccontextmanager
async def quays(folder: Path, url: str) -> AsyncIterator[Quays]:
    stand_in = StandIn(StandInPlan(name="out.example", folder=None), lambda item: here.caught.append(item))
    here = Quays(folder, url, await stand_in.start("127.0.0.1", 0))
    try:
        yield here
    finally:
        for service in here.services:
            await service.stop(0.5)
        await stand_in.stop()


def _port(service: Service) -> int:
    return service.endpoints[0].port


async def test_what_a_dead_server_accepted_another_relays_and_the_story_says_who_did_what(
    folder: Path, store_url: str, database: DatabaseServer
) -> None:
    """The one that was taken over cannot send or record any more, and says so."""
    async with quays(folder, store_url) as here:
        first = await here.start("quay1", hop=free_port())  # its way out is shut
        await converse(_port(first), talk(letter("a@crew.example"), letter("b@crew.example")))
        await here.until(lambda reader: reader.totals() == {State.DELAYED: 2})
        second = await here.start("quay2", server={"lease": "2s"})
        user = parse_store_url(store_url).user
        # as another server does when the lease is over; in between, this one might extend it
        died = "epoch = epoch + 1, lease_until = '-infinity', drained = false"
        database.sql(f"UPDATE {user}.server SET {died} WHERE slot = 1")
        await here.until(lambda reader: reader.totals() == {State.RELAYED: 2})
        assert sorted(message.recipients for message in here.caught) == [("a@crew.example",), ("b@crew.example",)]
        async with asyncio.timeout(SECONDS):
            await converse(_port(first), talk(letter("c@crew.example")))
            await first.lost.wait()
        with open_store(second.loaded.store).reader() as reader:
            (item, _) = reader.queue((State.RELAYED,))
            story = load_story(second.loaded.store, [], reader, item.message.id)
        done = [(line.server.partition(".")[0], line.what) for line in story.lines if line.server]
        assert (done[0], done[-1]) == (("quay1", "accepted"), ("quay2", "relayed"))


async def test_an_allowance_holds_over_all_servers_together(folder: Path, store_url: str) -> None:
    async with quays(folder, store_url) as here:
        for name in ("quay1", "quay2"):
            await here.start(name, allowance="10/day")
        letters = [talk(*(letter(f"{name}{n}@crew.example") for n in range(8))) for name in "ab"]
        await asyncio.gather(*(converse(_port(item), said) for item, said in zip(here.services, letters, strict=True)))
        await here.until(lambda reader: reader.totals() == {State.RELAYED: 10, State.DELAYED: 6})
        with open_store(here.services[0].loaded.store).reader() as reader:
            assert all("allowance 10/day is used up" in row.recipient.reply for row in reader.queue())


async def test_an_order_reaches_the_server_that_has_the_message(folder: Path, store_url: str) -> None:
    async with quays(folder, store_url) as here:
        first, second = await here.start("quay1", hop=free_port()), await here.start("quay2")
        await converse(_port(first), talk(letter("a@crew.example")))
        await here.until(lambda reader: reader.totals() == {State.DELAYED: 1})
        store = open_store(second.loaded.store)
        with store.reader() as reader:
            (row,) = reader.queue()
        store.add_requests([AdminRequest(0, 1.0, "root", Action.PARK, row.message.id, 1)])
        await here.until(lambda reader: reader.totals() == {State.PARKED: 1})
        store.add_requests([AdminRequest(0, 1.0, "root", Action.RETRY_CONNECTOR, 0, 0, "beacon")])
        await here.until(lambda reader: not reader.admin_requests())


async def test_content_waits_for_the_record_before_it_and_for_a_sure_lease() -> None:
    recorded: asyncio.Future[None] = asyncio.get_running_loop().create_future()
    sure = [False, False, True]
    content = asyncio.ensure_future(_awaited(LeasedContent(recorded, lambda: sure.pop(0))))
    await asyncio.sleep(0)
    assert len(sure) == 3, "nothing is asked before the record is there"
    recorded.set_result(None)
    async with asyncio.timeout(SECONDS):
        await content
    assert sure == []
    await LeasedContent(None, lambda: True)


async def _awaited(content: LeasedContent) -> None:
    await content


class _Peer:
    """What a SharedQueue talks to: a writer, the reads, a dispatcher and its supply, in one."""

    def __init__(self, waiting: int, peers: list[tuple[int, int]]) -> None:
        self.backlog, self.peers = list(range(waiting)), peers
        self.given: list[HandOver] = []
        self.looked_up: list[int] = []
        self.supply = self
        self.asked: list[bool] = []
        self.orphans: list[int] = []
        self.told: list[object] = []
        self.deadlines = self.log = self
        self.away = False

    def may_send(self) -> bool:
        return True

    def beat(self) -> None: ...

    def adopt(self, limit: int, *, from_dead: bool = True) -> list[int]:
        self.asked.append(from_dead)
        if self.orphans:
            return [self.orphans.pop()]
        if self.away:
            raise StoreAway("kite", "away")
        return []

    def exchange(self, waiting: int) -> list[tuple[int, int]]:
        return self.peers

    def take_to_give(self, most: int) -> list[int]:
        taken, self.backlog = self.backlog[:most], self.backlog[most:]
        return taken

    def carry_out_requests(self) -> None: ...

    def left_in_store(self, ids: list[int]) -> None:
        self.looked_up += ids

    def submit(self, transaction: Any, done: Any) -> None:
        self.given += transaction
        done(StoreAway("kite", "away") if len(self.given) > 1 else None)

    def soon(self, call: Callable[[], object]) -> None:
        call()

    def write(self, level: str, event: str, **facts: object) -> None:
        self.told.append((event, facts["count"]))

    def start_over(self) -> None:
        self.told.append("deadlines looked through again")

    def every(self, seconds: float, call: Callable[[], object], first: float = 0.0) -> None:
        self.turn = call
        call()


@pytest.mark.parametrize(
    ("waiting", "peers", "given"),
    [
        (1000, [(2, 0)], [(2, 500)]),
        (900, [(2, 0), (3, 10)], [(2, 300), (3, 196)]),
        (400, [(2, 0)], []),  # not worth it
        (1000, [(2, 300)], []),  # that one has enough to do
        (1000, [], []),
    ],
)
def test_one_that_is_far_behind_gives_to_those_that_are_idle(
    waiting: int, peers: list[tuple[int, int]], given: list[tuple[int, int]]
) -> None:
    peer: Any = _Peer(waiting, peers)
    SharedQueue(peer, peer, 30.0, peer, peer)
    assert [(order.slot, len(order.messages)) for order in peer.given] == given
    assert len(peer.looked_up) == sum(len(order.messages) for order in peer.given[1:]), "what could not be handed over"
    assert shared_queue.MUCH == 500


def test_nobody_counts_as_dead_before_the_database_was_seen_for_a_lease(monkeypatch: pytest.MonkeyPatch) -> None:
    """After an outage of the database, all leases may be over: each server has the time of one to come back."""
    now = [1000.0]
    monkeypatch.setattr(shared_queue.time, "monotonic", lambda: now[0])
    peer: Any = _Peer(0, [])
    SharedQueue(peer, peer, 30.0, peer, peer)
    for at in (29.0, 30.0):
        now[0] = 1000.0 + at
        peer.turn()
    assert peer.asked == [False, False, True]
    peer.away = True
    with pytest.raises(StoreAway):
        peer.turn()
    peer.away, peer.asked = False, []
    for at in (31.0, 59.0, 60.0):
        now[0] = 1000.0 + at
        peer.turn()
    assert peer.asked == [False, False, True]


def test_what_was_taken_over_is_looked_up_and_told_of_once() -> None:
    """Deadlines are looked through from the first message again: what came is older than where they were."""
    peer: Any = _Peer(0, [])
    queue = SharedQueue(peer, peer, 30.0, peer, peer)
    peer.orphans = [3, 2, 1]
    queue.wake()
    assert peer.looked_up == [1, 2, 3]
    assert peer.told == [("taken over", 3), "deadlines looked through again"]
