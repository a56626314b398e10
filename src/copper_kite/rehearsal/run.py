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
from copper_kite.relay import Dispatcher, Log, Supervisor
from copper_kite.routing import Router
from copper_kite.settings import Loaded
from copper_kite.store import AddMessage, IdMaker, LaneStop, Message, Recipient, ServerReads

__all__ = ["World", "run_once"]

LISTENER = "programs"


@dataclass(slots=True, kw_only=True)
class World:
    """What a run is made of: the configuration, the next hops by `host:port`, the period in which messages arrive, and
    when the last trouble is over."""

    loaded: Loaded
    hops: Mapping[str, HopModel]
    others: HopModel = field(default_factory=HopModel)
    since: float
    until: float
    trouble_ends: float | None = None


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

    def __init__(self, world: World, arrivals: Iterator[Arrival], seed: int, loop: SimulatedLoop) -> None:
        self.world = world
        self.loop = loop
        self.clock = SimulatedClock(loop)
        step = (world.until - world.since) / SAMPLES
        self.measures = Measures(world.since, step, world.trouble_ends)
        self.queue = MemoryQueue(loop, self._ended, self._moved)
        self.faults = _Faults()
        self._ids = IdMaker()
        self._arrivals = arrivals
        self._next: Arrival | None = next(arrivals, None)
        self._lifetime = world.loaded.settings.retry.lifetime
        self._router = Router(world.loaded.settings.connector)
        network = ModelNetwork(loop, self.queue, world.hops, world.others, seed)
        log = Log(self.faults, lambda at, level, event, facts: f"{event} {facts}", "error", self.clock.now)
        self.dispatcher = Dispatcher(
            world.loaded, self.queue.submit, cast(ServerReads, self.queue), self._ids, self.clock, log,
            Supervisor(log), network=network, make_notices=partial(counted_notices, self.measures),
        )  # fmt: skip

    def play(self) -> Measures:
        """Let it go on until all has ended."""
        loop, world = self.loop, self.world
        self.dispatcher.start()
        loop.call_later(self.measures.step, self._sample)
        if world.trouble_ends is not None:
            loop.call_at(world.trouble_ends, self.measures.trouble_over)
        if self._next is not None:
            loop.call_at(self._next.at, self._arrive)
        loop.run(stop=self._is_over)
        if self.faults.lines or loop.faults:
            raise RehearsalFailed(f"an internal error: {(self.faults.lines or [str(loop.faults[0])])[0]}")
        return self.measures

    def _is_over(self) -> bool:
        return self._next is None and self.queue.is_empty and self.loop.now >= self.world.until

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
            self.loop.call_at(following.at, self._arrive)

    def _submit(self, arrival: Arrival) -> None:
        now, who, sender, addresses, size, priority = arrival
        id = self._ids.next(now)
        message = Message(
            id, now, now + self._lifetime, sender, size, False, False, "", LISTENER, "unix", "", who, "ESMTP", "", "",
            priority,
        )  # fmt: skip
        recipients = [
            Recipient(id, number, address, next_try=now, connector=self._router.carrier(address, sender), changed=now)
            for number, address in enumerate(addresses, 1)
        ]
        addition = AddMessage(message, recipients, None)
        self.queue.add(addition)
        self.measures.submitted += len(recipients)
        self.measures.count(self.queue.recipients, now)
        self.dispatcher.offer(addition)


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


def run_once(world: World, arrivals: Iterator[Arrival], seed: int) -> Measures:
    """Play the messages through the dispatcher. Raises RehearsalFailed for a fault of ours."""
    loop = SimulatedLoop(world.since)  # type: ignore[abstract]  # what is missing needs sockets or threads
    with _undisturbed(loop, seed):
        return _Run(world, arrivals, seed, loop).play()
