"""One run: the dispatcher of the server over a queue in memory, with modelled next hops and a clock that jumps."""

from __future__ import annotations

import gc
import random
from asyncio import events
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field
from functools import partial
from typing import cast

from copper_kite.errors import RehearsalFailed
from copper_kite.rehearsal.arrivals import Arrival
from copper_kite.rehearsal.loop import SimulatedClock, SimulatedLoop
from copper_kite.rehearsal.measures import SAMPLES, Measures
from copper_kite.rehearsal.next_hops import HopModel, ModelNetwork
from copper_kite.rehearsal.notices import counted_notices
from copper_kite.rehearsal.queue import Ended, MemoryQueue
from copper_kite.rehearsal.quick_lane import QuickLane
from copper_kite.relay import Dispatcher, Job, Lane, Log, Report, Supervisor, Surroundings
from copper_kite.routing import Router
from copper_kite.settings import Loaded
from copper_kite.store import AddMessage, IdMaker, LaneStop, Message, Recipient, ServerReads

__all__ = ["World", "run_once"]

LISTENER = "programs"


@dataclass(slots=True, kw_only=True)
class World:
    """The parts of a run: the configuration, the next hops by `host:port`, the period in which messages arrive, and the
    span in which the scenario has trouble."""

    loaded: Loaded
    hops: Mapping[str, HopModel]
    others: HopModel = field(default_factory=HopModel)
    since: float
    until: float
    trouble: tuple[float, float] | None = None


class _Faults:
    """The log of the rehearsed server: only faults of ours are in it."""

    def __init__(self) -> None:
        self.lines: list[str] = []

    def write(self, line: str) -> None:
        """Keep it."""
        self.lines.append(line)

    def close(self) -> None:
        """Nothing is open."""


class _Run:
    """The parts of a run, while it lasts."""

    def __init__(
        self, world: World, arrivals: Iterator[Arrival], seed: int, loop: SimulatedLoop, *, quick: bool
    ) -> None:
        self.world = world
        self.loop = loop
        self.clock = SimulatedClock(loop)
        step = (world.until - world.since) / SAMPLES
        self.measures = Measures(world.since, step, world.trouble)
        self.queue = MemoryQueue(loop, self._ended, self._moved)
        self.faults = _Faults()
        self._ids = IdMaker()
        self._arrivals = arrivals
        self.lanes: dict[tuple[str, str], QuickLane] = {}
        self._next: Arrival | None = next(arrivals, None)
        self._lifetime = world.loaded.settings.retry.lifetime
        self._router = Router(world.loaded.settings.connector)
        network = ModelNetwork(loop, self.queue, world.hops, world.others, seed)
        surroundings = Surroundings(
            network=network, make_lane=partial(QuickLane, self) if quick else Lane,
            make_notices=partial(counted_notices, self.measures),
        )  # fmt: skip
        log = Log(self.faults, lambda at, level, event, facts: f"{event} {facts}", "error", self.clock.now)
        self.dispatcher = Dispatcher(
            world.loaded, self.queue.submit, cast(ServerReads, self.queue), self._ids, self.clock, log,
            Supervisor(log), surroundings=surroundings,
        )  # fmt: skip
        self._supply = self.dispatcher.supply

    def play(self) -> Measures:
        """Let it go on until all has ended."""
        loop, world = self.loop, self.world
        self.dispatcher.start()
        loop.call_later(self.measures.step, self._sample)
        if world.trouble is not None:
            loop.call_at(world.trouble[1], self.measures.trouble_over)
        if self._next is not None:
            loop.come(self._next.at, self._arrive)
        loop.run(until=world.until)
        loop.run(stop=self._is_over)
        if self.faults.lines or loop.faults:
            raise RehearsalFailed(f"an internal error: {(self.faults.lines or [str(loop.faults[0])])[0]}")
        return self.measures

    def _is_over(self) -> bool:
        return (
            self._next is None
            and self.queue.is_empty
            and not self.queue.recipients
            and self.loop.now >= self.world.until
        )

    def _sample(self) -> None:
        self.measures.sample(self.queue, self.loop.now)
        self.loop.call_later(self.measures.step, self._sample)

    def _ended(self, end: Ended) -> None:
        self.measures.ended(end, self.queue.recipients)

    def _moved(self, key: tuple[str, str], stop: LaneStop | None) -> None:
        self.measures.moved(key, stop, self.loop.now)

    def _arrive(self) -> None:
        """Submit the next message, and set the timer for the one after it."""
        arrival = self._next
        assert arrival is not None
        self._submit(arrival)
        self._next = following = next(self._arrivals, None)
        if following is not None:
            self.loop.come(following.at, self._arrive)

    def _submit(self, arrival: Arrival) -> None:
        queue, addresses = self.queue, arrival.recipients
        self.measures.submitted += len(addresses)
        id = self._ids.next(arrival.at)
        if len(addresses) == 1:
            connector = self._router.carrier(addresses[0], arrival.sender)
            lane = self.lanes.get((connector, ""))
            if lane is not None and lane.takes_at_once and self.dispatcher.is_free(lane.key, arrival.size):
                queue.recipients += 1
                self.measures.count(queue.recipients, arrival.at)
                lane.carry_new(arrival, id)
                return
        addition = self._addition(arrival, id)
        queue.add(addition)
        self.measures.count(queue.recipients, arrival.at)
        self.dispatcher.take(addition)

    def _addition(self, arrival: Arrival, id: int) -> AddMessage:
        """The message as it is submitted."""
        at, who, sender, addresses, size, priority = arrival
        message = Message(
            id, at, at + self._lifetime, sender, size, False, False, "", LISTENER, "unix", "", who, "ESMTP", "", "",
            priority,
        )  # fmt: skip
        recipients = [
            Recipient(id, number, address, next_try=at, connector=self._router.carrier(address, sender), changed=at)
            for number, address in enumerate(addresses, 1)
        ]
        return AddMessage(message, recipients, None)

    # --- what quick lanes say -----------------------------------------------------------------------------------------

    def relayed(self, report: Report) -> None:
        """An attempt relayed its message to all recipients of its job."""
        self.dispatcher.count(report)
        self.queue.end_relayed(report.job)
        self.loop.call_soon(self.dispatcher.end, report.job, None)

    def relayed_new(self, key: tuple[str, str], arrival: Arrival) -> None:
        """A message that needed no job is relayed."""
        queue = self.queue
        queue.recipients -= 1
        self.measures.relayed_new(key[0], arrival, self.loop.now, queue.recipients)
        if self._supply.backlog.lanes():
            self._supply.has_places(key, self.lanes[key].load.jobs)

    def enter(self, lane: QuickLane, arrival: Arrival, id: int) -> Job:
        """A message that began without one gets a job, and a place in the queue."""
        addition = self._addition(arrival, id)
        self.queue.recipients -= 1  # it was counted when it came
        self.queue.add(addition)
        recipients = [*addition.recipients]
        job = Job(addition.message, recipients, lane.key[0], lane.next_hop, None, self.queue.content, load=lane.load)
        self._supply.in_hand.begin(job)
        return job


@contextmanager
def _undisturbed(loop: SimulatedLoop, seed: int) -> Iterator[None]:
    """The loop is the running one, chance begins with `seed`, and nothing is collected meanwhile."""
    state, collects = random.getstate(), gc.isenabled()
    gc.disable()
    events._set_running_loop(loop)
    random.seed(seed)
    try:
        yield
    finally:
        events._set_running_loop(None)
        random.setstate(state)
        if collects:
            gc.enable()


def run_once(world: World, arrivals: Iterator[Arrival], seed: int, *, quick: bool = True) -> Measures:
    """Play the messages through the dispatcher; unless `quick`, its lanes are those of a server, with the same result.

    Raises RehearsalFailed for a fault of ours.
    """
    loop = SimulatedLoop(world.since)  # type: ignore[abstract]  # what is missing needs sockets or threads
    with _undisturbed(loop, seed):
        return _Run(world, arrivals, seed, loop, quick=quick).play()
