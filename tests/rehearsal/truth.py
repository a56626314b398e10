"""The same messages through a real server with a stand-in, and through a rehearsal of it.

`python -m tests.rehearsal.truth` prints the table of docs/rehearsal.md.
"""

from __future__ import annotations

import asyncio
import random
import tempfile
from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from statistics import quantiles

from copper_kite.rehearsal.arrivals import Arrival
from copper_kite.rehearsal.measures import Measures
from copper_kite.rehearsal.next_hops import Away, HopModel, Refusal
from copper_kite.rehearsal.run import World, run_once
from copper_kite.relay.service import Service
from copper_kite.session.behaviour import Judge
from copper_kite.session.standin import Rule, StandIn, StandInPlan
from copper_kite.settings.load import Loaded, load_source
from copper_kite.smtp.replies import Reply
from copper_kite.store import open_store
from copper_kite.words import Stage, State
from tests.configuration import connector, site_text, table
from tests.rehearsal.jumping import JumpingClock, JumpingLoop
from tests.rehearsal.worlds import all_delays
from tests.support import free_port

__all__ = ["SCENES", "Outcome", "Scene", "compare"]

BEGIN = 1_800_000_000.0 - 1_800_000_000.0 % 3600  # of an hour
LATER = Reply(451, "4.3.0", "later")
CONNECT = 0.002  # a session on this machine takes as good as no time


@dataclass(frozen=True, slots=True, kw_only=True)
class Scene:
    """A scenario that both play: keys of the connector, messages, and what the next hop does."""

    name: str
    seconds: float
    service: float
    arrivals: Callable[[random.Random], Sequence[Arrival]]
    keys: dict[str, object] = field(default_factory=dict)
    away: tuple[float, float] | None = None  # from and to, after the beginning
    refused: tuple[str, float, float] | None = None  # a domain, from and to


@dataclass(frozen=True, slots=True)
class Outcome:
    """What became of it: recipients by state, delays of those relayed, notices, and when it was empty again."""

    states: dict[str, int]
    delays: Sequence[float]
    notices: int
    empty_after: float

    def delay(self, percent: int) -> float:
        """A percentile."""
        return quantiles(self.delays, n=100, method="inclusive")[percent - 1]


def _configuration(scene: Scene, port: int, listen: int) -> str:
    return site_text(
        connector("beacon", f"127.0.0.1:{port}", tls="off", **scene.keys),
        table("[retry]", waits=["1m", "5m", "10m"], lifetime="4h", notice_after="30m"),
        table("[log]", to="file:kite.log"),
        bind=f"127.0.0.1:{listen}",
    )


# --- the real one ---------------------------------------------------------------------------------------------------


def play_real(scene: Scene, folder: Path, seed: int) -> Outcome:
    """Through the server, its store and SMTP over sockets."""
    loop = JumpingLoop()
    asyncio.set_event_loop(loop)
    try:
        return loop.run_until_complete(_play(loop, scene, folder, seed))
    finally:
        asyncio.set_event_loop(None)
        loop.close()


async def _play(loop: JumpingLoop, scene: Scene, folder: Path, seed: int) -> Outcome:
    clock, port, listen = JumpingClock(loop, BEGIN), free_port(), free_port()
    slow = Rule(stage=Stage.ACCEPT, wait=scene.service, reply=Reply(250, "2.0.0", "kept"))
    plan = StandInPlan(name="localhost", folder=None, tls="off", rules=(slow,))
    stand_in = StandIn(plan, clock=clock)
    await stand_in.start("127.0.0.1", port)
    loaded = load_source(folder / "kite.toml", _configuration(scene, port, listen), secrets=False)
    random.seed(seed)
    service = await Service.start(loaded, clock)
    trouble = loop.create_task(_trouble(scene, stand_in, port, clock))
    arrivals = scene.arrivals(random.Random(seed))
    await _submit(loop, arrivals, listen)
    await asyncio.sleep(scene.seconds - loop.now)
    with open_store(loaded.store).reader() as reader:
        while reader.queue():
            await asyncio.sleep(10.0)
        rows = reader.queue(tuple(State))
    await trouble
    await service.stop(1.0)
    await stand_in.stop()
    ours = [row for row in rows if row.message.listener]
    delays = [row.recipient.changed - row.message.arrived for row in ours if row.recipient.state is State.RELAYED]
    ends = sorted(row.recipient.changed for row in ours)
    states = Counter(row.recipient.state.value for row in ours)
    came = sorted(row.message.arrived for row in ours)
    return Outcome(dict(states), delays, len(rows) - len(ours), _emptied(came, ends, _trouble_ends(scene)))


async def _trouble(scene: Scene, stand_in: StandIn, port: int, clock: JumpingClock) -> None:
    if scene.away is not None:
        await asyncio.sleep(scene.away[0])
        await stand_in.stop()
        await asyncio.sleep(scene.away[1] - scene.away[0])
        await StandIn(stand_in.plan, clock=clock).start("127.0.0.1", port)
    elif scene.refused is not None:
        domain, since, until = scene.refused
        await asyncio.sleep(since)
        stand_in.judge = Judge((Rule(pattern=f"*@{domain}", reply=LATER), *stand_in.plan.rules))
        await asyncio.sleep(until - since)
        stand_in.judge = Judge(tuple(stand_in.plan.rules))


async def _submit(loop: JumpingLoop, arrivals: Sequence[Arrival], port: int) -> None:
    """Each at its time, in a session of its own."""
    for arrival in arrivals:
        await asyncio.sleep(max(arrival.at - BEGIN - loop.now, 0.0))
        reader, writer = await asyncio.open_connection("127.0.0.1", port)
        to = b"".join(b"RCPT TO:<%s>\r\n" % address.encode() for address in arrival.recipients)
        content = b"Subject: x\r\n\r\n" + b"x" * 60 + b"\r\n"
        writer.write(b"EHLO x.example\r\nMAIL FROM:<%s>\r\n%sDATA\r\n" % (arrival.sender.encode(), to))
        writer.write(content + b".\r\nQUIT\r\n")
        said = await reader.read()
        assert b"\r\n250 2.0.0 kept as" in said, said
        writer.close()


def _trouble_of(scene: Scene) -> tuple[float, float] | None:
    span = scene.away or (scene.refused and scene.refused[1:])
    return None if span is None else (BEGIN + span[0], BEGIN + span[1])


def _trouble_ends(scene: Scene) -> float | None:
    trouble = _trouble_of(scene)
    return None if trouble is None else trouble[1]


def _emptied(came: Sequence[float], ends: Sequence[float], trouble_ends: float | None) -> float:
    """How long after the trouble, or after the queue was longest, nothing is open."""
    changes = sorted([(at, 1) for at in came] + [(at, -1) for at in ends])
    open_now, longest, since = 0, 0, BEGIN
    for at, change in changes:
        open_now += change
        if trouble_ends is None and open_now > longest:
            longest, since = open_now, at
    since = since if trouble_ends is None else trouble_ends
    open_now = 0
    for at, change in changes:
        open_now += change
        if at >= since and not open_now:
            return at - since
    raise AssertionError("it is never empty")


# --- the rehearsed one ----------------------------------------------------------------------------------------------


def play_rehearsed(scene: Scene, folder: Path, seed: int) -> Outcome:
    """The same by the rehearsal."""
    loaded: Loaded = load_source(folder / "kite.toml", _configuration(scene, 9, 10), secrets=False)
    model = HopModel(service=(scene.service,), connect=CONNECT)
    if scene.away is not None:
        model.away = [Away(BEGIN + scene.away[0], BEGIN + scene.away[1])]
    if scene.refused is not None:
        domain, since, until = scene.refused
        model.refusals = [Refusal(domain, LATER, BEGIN + since, BEGIN + until)]
    world = World(
        loaded=loaded, hops={"127.0.0.1:9": model}, since=BEGIN, until=BEGIN + scene.seconds,
        trouble=_trouble_of(scene),
    )  # fmt: skip
    measures = run_once(world, iter(scene.arrivals(random.Random(seed))), seed)
    return Outcome(_states(measures), all_delays(measures), measures.notices, _empty_after(measures, scene))


def _states(measures: Measures) -> dict[str, int]:
    states = {"relayed": measures.relayed, "failed": measures.expired + measures.refused}
    return {name: count for name, count in states.items() if count}


def _empty_after(measures: Measures, scene: Scene) -> float:
    assert measures.empty_at is not None
    ends = _trouble_ends(scene)
    return measures.empty_at - (measures.largest_at if ends is None else ends)


# --- scenes ---------------------------------------------------------------------------------------------------------


def _steady(rate: float, seconds: float, *domains: str) -> Callable[[random.Random], list[Arrival]]:
    def arrivals(dice: random.Random) -> list[Arrival]:
        at, made = BEGIN + 1.0, []
        while (at := at + dice.expovariate(rate)) < BEGIN + seconds:
            address = f"r{len(made)}@{dice.choice(domains)}"
            made.append(Arrival(at, "127.0.0.1", "ticketing@ternferries.example", (address,), 100))
        return made

    return arrivals


def _burst(dice: random.Random) -> list[Arrival]:
    """Two senders at once, and a trickle after them."""
    first = [
        Arrival(
            BEGIN + 600.0 + number * 0.2, "127.0.0.1", f"{who}@ternferries.example", (f"r{number}@crew.example",), 100
        )
        for number in range(300)
        for who in ("rota", "tidewatch")
    ]
    return sorted(first + _steady(0.02, 7200.0, "passenger.example")(dice))


SCENES = (
    Scene(
        name="the next hop refuses connections for 50 minutes",
        seconds=7200.0,
        service=0.5,
        arrivals=_steady(0.15, 7200.0, "passenger.example"),
        keys={"sessions": 2},
        away=(1800.0, 4800.0),
    ),
    Scene(
        name="one of two domains is refused with 451 for 40 minutes",
        seconds=7200.0,
        service=0.5,
        arrivals=_steady(0.1, 7200.0, "passenger.example", "crew.example"),
        refused=("passenger.example", 1800.0, 4200.0),
    ),
    Scene(
        name="600 messages at once, an allowance of 500 an hour and a pace of 2/s",
        seconds=7200.0,
        service=0.3,
        arrivals=_burst,
        keys={"allowance": ["500/hour"], "pace": "2/s"},
    ),
)


def compare(scene: Scene, folder: Path, seed: int) -> tuple[Outcome, Outcome]:
    """What the real server did, and the rehearsal."""
    return play_real(scene, folder, seed), play_rehearsed(scene, folder, seed)


def _said(states: dict[str, int]) -> str:
    return ", ".join(f"{count:,} {state}" for state, count in states.items())


def _print_table() -> None:
    print("| scenario | | real | rehearsed | difference |\n| --- | --- | --- | --- | --- |")
    for scene in SCENES:
        with tempfile.TemporaryDirectory() as folder:
            real, rehearsed = compare(scene, Path(folder), 1)
        print(f"| {scene.name} | ended | {_said(real.states)} | {_said(rehearsed.states)} | |")
        rows = [("empty again after", real.empty_after, rehearsed.empty_after)]
        rows += [(f"delay, {percent} %", real.delay(percent), rehearsed.delay(percent)) for percent in (50, 90, 95, 99)]
        for label, before, after in rows:
            print(f"| | {label} | {before:,.2f} s | {after:,.2f} s | {after / before - 1:+.1%} |")
        print(f"| | notices | {real.notices} | {rehearsed.notices} | |")


if __name__ == "__main__":
    _print_table()
