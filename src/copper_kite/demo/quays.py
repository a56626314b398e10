"""The run of several servers, which share a queue in a PostgreSQL database of the demo's own: one of them is killed."""

from __future__ import annotations

import asyncio
import contextlib
import os
import shutil
import subprocess
import sys
import tempfile
import time
from collections import Counter
from collections.abc import Callable
from contextlib import AsyncExitStack
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path
from typing import NamedTuple

from copper_kite.demo.database import DatabaseServer
from copper_kite.demo.ports import free_port
from copper_kite.errors import KiteError
from copper_kite.net import Dialogue, Plan, RelaySession, SessionFailed, open_session
from copper_kite.session import Caught, StandIn, StandInPlan
from copper_kite.settings import Loaded, load_configuration
from copper_kite.smtp import Envelope
from copper_kite.store import Reader, open_store, slot_of
from copper_kite.words import State

__all__ = ["Quays", "QuaysMoment", "QuaysOutcome"]

RATE = 15  # messages a second that programs submit to each server
SESSIONS = 3  # of programs with each server
KILLED_AFTER = 0.35  # of the run
READY_SECONDS, DRAIN_SECONDS = 20.0, 60.0
LETTER = b"From: Tern Ticketing <ticketing@ternferries.example>\r\nSubject: Booking %d\r\n\r\nThe 8:40 from quay 1.\r\n"


class QuaysMoment(NamedTuple):
    """The state after so many seconds: messages acknowledged and relayed, and how many wait for each server."""

    at: float
    acknowledged: int
    relayed: int
    waiting: dict[str, int]
    killed: str


class QuaysOutcome(NamedTuple):
    """The result: messages acknowledged, of which so many were never relayed; copies beyond the first; how many waited
    for the server that was killed, and the seconds until others had sent them."""

    acknowledged: int
    lost: int
    extra: int
    waited: int
    seconds: float


@dataclass(slots=True)
class Quays:
    """So many servers in `folder`, for so many seconds. `tell` is called every second; `over` at the end, while the
    database still runs, with a message that the killed one had accepted and another relayed (0: there is none)."""

    folder: Path
    count: int
    seconds: float
    tell: Callable[[QuaysMoment], None]
    over: Callable[[Loaded, Reader, int], None]
    _configs: list[Path] = field(default_factory=list)
    _processes: list[subprocess.Popen[bytes]] = field(default_factory=list)
    _acknowledged: set[str] = field(default_factory=set)
    _copies: Counter[str] = field(default_factory=Counter)
    _number: int = 0
    _ended: bool = False

    async def run(self) -> QuaysOutcome:
        """Start all of it, kill one, and end all of it. Raises NoDatabase where PostgreSQL cannot be started."""
        async with AsyncExitStack() as stack:
            url = self._database(stack)
            stand_in = StandIn(StandInPlan(name="out.beaconpost.example", folder=None), self._caught)
            hop = await stand_in.start("127.0.0.1", 0)
            stack.push_async_callback(stand_in.stop)
            ports = [free_port() for _ in range(self.count)]
            stack.callback(self._end)
            for number, port in enumerate(ports, 1):
                self._start(number, port, hop, url)
            for port in ports:
                await _ready(port)
            return await self._live(ports)

    def _caught(self, caught: Caught) -> None:
        self._copies[caught.recipients[0]] += 1

    def _database(self, stack: AsyncExitStack) -> str:
        folder = self.folder / "database"
        if os.geteuid():
            folder.mkdir()
        else:  # it runs as another user, who cannot get to where only root can
            folder = Path(tempfile.mkdtemp(prefix="kite-demo-database-"))
            stack.callback(shutil.rmtree, folder, ignore_errors=True)
        server = DatabaseServer(folder)
        server.start()
        stack.callback(server.stop, "immediate")
        server.sql("CREATE DATABASE kite", "postgres")
        return server.add_user("kite")

    def _start(self, number: int, port: int, hop: int, url: str) -> None:
        folder = self.folder / f"quay{number}"
        folder.mkdir()
        config = folder / "kite.toml"
        config.write_text(_CONFIG.format(number=number, port=port, hop=hop, url=url))
        self._configs.append(config)
        with (folder / "serve.log").open("wb") as log:
            command = [sys.executable, "-m", "copper_kite", "--config", str(config), "serve"]
            self._processes.append(subprocess.Popen(command, stdin=subprocess.DEVNULL, stdout=log, stderr=log))

    async def _live(self, ports: list[int]) -> QuaysOutcome:
        load = [asyncio.create_task(self._submit(port)) for port in ports for _ in range(SESSIONS)]
        began, killed, killed_at, waited, sent_after = time.monotonic(), "", 0.0, 0, 0.0
        victim = f"quay{min(2, self.count)}"
        loaded = load_configuration(self._configs[0])
        with open_store(loaded.store).reader() as reader:
            names = [f"quay{number}" for number in range(1, self.count + 1)]
            while True:
                await asyncio.sleep(1.0)
                at = time.monotonic() - began
                waiting = {name: len(reader.waiting_of(f"{name}.ternferries.example")) for name in names}
                if not killed and at >= KILLED_AFTER * self.seconds:
                    self._processes[names.index(victim)].kill()
                    killed, killed_at, waited = victim, at, waiting[victim]
                if killed and not sent_after and not waiting[victim]:
                    sent_after = at - killed_at
                self.tell(QuaysMoment(at, len(self._acknowledged), len(self._copies), waiting, killed))
                self._ended = at >= self.seconds
                over = not any(waiting.values()) and len(self._acknowledged) <= len(self._copies)
                if (self._ended and over) or at > self.seconds + DRAIN_SECONDS:
                    break
            await asyncio.gather(*load)
            self.over(loaded, reader, _example(reader, victim))
        lost = len(self._acknowledged - self._copies.keys())
        extra = sum(count - 1 for count in self._copies.values())
        return QuaysOutcome(len(self._acknowledged), lost, extra, waited, sent_after)

    async def _submit(self, port: int) -> None:
        """One program, which does not try again what was not acknowledged."""
        session: RelaySession | None = None
        loop = asyncio.get_running_loop()
        while not self._ended:
            self._number += 1
            number = self._number
            try:
                if session is None or not session.usable:
                    plan = Plan(host="127.0.0.1", port=port, name="ticketing.ternferries.example", tls="off")
                    session = await open_session(plan, Dialogue(loop.time()))
                content, to = LETTER % number, f"p{number}@passenger.example"
                envelope = Envelope("ticketing@ternferries.example", (to,), len(content), False, False)
                (result,) = await session.relay(envelope, partial(tuple, [content]))
                if result.reply.code == 250:
                    self._acknowledged.add(to)
            except (SessionFailed, KiteError):
                session = None
                await asyncio.sleep(0.5)
            await asyncio.sleep(SESSIONS / RATE)
        if session is not None:
            with contextlib.suppress(SessionFailed, KiteError):
                await session.close()

    def _end(self) -> None:
        for process in self._processes:
            process.terminate()
        for process in self._processes:
            process.wait()


def _example(reader: Reader, victim: str) -> int:
    """A message that the victim had accepted and another relayed; 0 for none."""
    slots = {server.slot: server.name.partition(".")[0] for server in reader.servers()}
    for row in reader.queue((State.RELAYED,)):
        if slots[slot_of(row.message.id)] == victim:
            attempts = reader.record(row.message.id).attempts
            if attempts and slots[slot_of(attempts[-1].id)] != victim:
                return row.message.id
    return 0


async def _ready(port: int) -> None:
    """Raises KiteError when nobody listens there in time."""
    deadline = time.monotonic() + READY_SECONDS
    while time.monotonic() < deadline:
        with contextlib.suppress(OSError):
            _, writer = await asyncio.open_connection("127.0.0.1", port)
            writer.close()
            return
        await asyncio.sleep(0.1)
    raise KiteError(f"the server at 127.0.0.1:{port} did not start: see serve.log in its folder")


_CONFIG = """\
# Tern Island Ferries: one of several servers that share a queue. The smart host is a stand-in on this machine.

[server]
name = "quay{number}.ternferries.example"
data = "queue"
store = "{url}"
lease = "3s"

[identity]
domain = "ternferries.example"

[[listener]]
name = "programs"
bind = ["127.0.0.1:{port}"]

[[connector]]
name = "beacon"
recipients = ["*"]
hosts = ["127.0.0.1:{hop}"]
tls = "off"
sessions = 2
pace = "10/s"                       # so that some mail waits when the server is killed

[log]
to = "file:kite.log"
level = "info"
"""
