"""Three servers that share a queue, each a host of its own, under load: one is killed, one cut off from the database,
one stopped for longer than its lease, and the database is restarted. What was acknowledged is relayed; no copy more than
there were open sessions.

`python -m tests.hostile.servers [--rate 300] [--seconds 60] [--lease 10]`
"""

from __future__ import annotations

import argparse
import asyncio
import contextlib
import os
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
import time
from collections import Counter
from collections.abc import AsyncIterator, Iterator
from contextlib import asynccontextmanager, contextmanager
from dataclasses import dataclass, field
from pathlib import Path

import pytest

from copper_kite.demo.database import DatabaseServer
from copper_kite.session.standin import Caught, StandIn, StandInPlan
from copper_kite.store import StorePlace, open_store
from copper_kite.words import State
from tests.configuration import connector, site_text
from tests.database_server import database_server
from tests.support import environment

__all__ = ["Outcome", "rounds"]

SESSIONS = 5  # of a server to the next hop
HOP_PORT, PORT = 2500, 2525
MOST_SECONDS = 180.0  # until all has left at the end
READY_SECONDS = 30.0
CLIENTS = 8  # for each server


class Hosts:
    """Network namespaces, one for each server, on one bridge; the database and the next hop have addresses of their own
    on it. Skips the test where none can be made."""

    def __init__(self, count: int) -> None:
        unique = f"{os.getpid() % 4096:x}"
        self.net = f"10.{77 + os.getpid() % 100}.{os.getpid() // 100 % 250}"
        self.bridge = f"kb{unique}"
        self.names = [f"kite-{unique}-{number}" for number in range(count)]
        self.hop, self.database = f"{self.net}.1", f"{self.net}.2"
        self._unique = unique

    def address(self, number: int) -> str:
        return f"{self.net}.{11 + number}"

    def make(self) -> None:
        if os.geteuid() or shutil.which("ip") is None:
            pytest.skip("needs root and Debian's iproute2, to make network namespaces")
        try:
            _ip("link", "add", self.bridge, "type", "bridge")
        except subprocess.CalledProcessError as error:
            pytest.skip(f"no network namespaces can be made here: {error.stderr.strip()}")
        for address in (self.hop, self.database):
            _ip("addr", "add", f"{address}/24", "dev", self.bridge)
        _ip("link", "set", self.bridge, "up")
        for number, name in enumerate(self.names):
            outside, inside = f"ko{self._unique}{number}", f"ki{self._unique}{number}"
            _ip("netns", "add", name)
            _ip("link", "add", outside, "type", "veth", "peer", "name", inside)
            _ip("link", "set", outside, "master", self.bridge, "up")
            _ip("link", "set", inside, "netns", name)
            _ip("-n", name, "addr", "add", f"{self.address(number)}/24", "dev", inside)
            _ip("-n", name, "link", "set", inside, "up")
            _ip("-n", name, "link", "set", "lo", "up")

    def remove(self) -> None:
        for name in self.names:
            with contextlib.suppress(subprocess.CalledProcessError):
                _ip("netns", "del", name)
        with contextlib.suppress(subprocess.CalledProcessError):
            _ip("link", "del", self.bridge)

    def cut_off(self, number: int) -> None:
        """The server's packets to the database are swallowed, and so are the answers."""
        _ip("-n", self.names[number], "route", "add", "blackhole", f"{self.database}/32")

    def join_again(self, number: int) -> None:
        _ip("-n", self.names[number], "route", "del", "blackhole", f"{self.database}/32")


def _ip(*words: str) -> None:
    subprocess.run(["ip", *words], check=True, capture_output=True, text=True)


@dataclass
class Outcome:
    """What came of it."""

    acknowledged: set[str] = field(default_factory=set)
    copies: Counter[str] = field(default_factory=Counter)
    events: list[str] = field(default_factory=list)
    bound: int = 0  # sessions that were open at the events
    refused: int = 0
    sent_while_cut: int = 0
    seconds: float = 0.0
    by_server: Counter[str] = field(default_factory=Counter)

    @property
    def lost(self) -> set[str]:
        return {name for name in self.acknowledged if not self.copies[name]}

    @property
    def extra(self) -> int:
        return sum(count - 1 for count in self.copies.values())

    def __str__(self) -> str:
        attempts = ", ".join(f"{name} {count}" for name, count in sorted(self.by_server.items()))
        return "\n".join(
            (
                *self.events,
                f"{len(self.acknowledged)} acknowledged ({self.refused} refused or cut off), {len(self.lost)} lost,"
                f" {self.extra} extra copies of at most {self.bound} ({self.seconds:.0f} s)",
                f"taken by the next hop from each server: {attempts};"
                f" {self.sent_while_cut} from the one that was cut off, after its lease",
            )
        )


class _Servers:
    """The three processes."""

    def __init__(self, folder: Path, hosts: Hosts, url: str, lease: float) -> None:
        self.hosts = hosts
        self.configs = []
        for number in range(len(hosts.names)):
            place = folder / f"s{number}"
            place.mkdir()
            keys: dict[str, object] = {"store": url, "store_tls": "off", "lease": f"{lease:.0f}s", "longest_wait": "5s"}
            text = site_text(
                connector("beacon", f"{hosts.hop}:{HOP_PORT}", tls="off", sessions=SESSIONS),
                bind=f"{hosts.address(number)}:{PORT}", name=f"quay{number + 1}.ternferries.example", server=keys,
                listener={"allow": [f"{hosts.net}.0/24"]},
            )  # fmt: skip
            (place / "kite.toml").write_text(text + '[retry]\nwaits = ["1s"]\n')
            self.configs.append(place / "kite.toml")
        self.processes: list[subprocess.Popen[bytes]] = []

    def start(self, number: int) -> subprocess.Popen[bytes]:
        words = [sys.executable, "-m", "copper_kite", "--config", str(self.configs[number]), "serve"]
        with (self.configs[number].parent / "serve.log").open("ab") as log:
            return subprocess.Popen(
                ["ip", "netns", "exec", self.hosts.names[number], *words], stdout=log, stderr=log, env=environment()
            )

    async def start_all(self) -> None:
        self.processes = [self.start(number) for number in range(len(self.hosts.names))]
        for number in range(len(self.processes)):
            await self.ready(number)

    async def ready(self, number: int) -> None:
        deadline = time.monotonic() + READY_SECONDS
        while time.monotonic() < deadline:
            with contextlib.suppress(OSError), socket.create_connection((self.hosts.address(number), PORT), 0.5):
                return
            await asyncio.sleep(0.1)
        raise AssertionError((self.configs[number].parent / "serve.log").read_text())

    def kill(self) -> None:
        for process in self.processes:
            with contextlib.suppress(ProcessLookupError):
                process.send_signal(signal.SIGCONT)
                process.kill()
            process.wait()


class _Load:
    """Messages at a rate, each with a number of its own, to the servers in turn."""

    def __init__(self, hosts: Hosts, rate: float, outcome: Outcome) -> None:
        self._hosts = hosts
        self._interval = len(hosts.names) * CLIENTS / rate
        self._outcome = outcome
        self._number = 0
        self.ended = False

    async def run(self) -> None:
        count = len(self._hosts.names)
        await asyncio.gather(*(self._client(number % count) for number in range(count * CLIENTS)))

    async def _client(self, server: int) -> None:
        while not self.ended:
            try:
                async with asyncio.timeout(20.0):
                    reader, writer = await asyncio.open_connection(self._hosts.address(server), PORT)
                    await self._session(reader, writer)
            except (OSError, EOFError, TimeoutError, asyncio.IncompleteReadError):
                self._outcome.refused += 1
                await asyncio.sleep(0.5)

    async def _session(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        try:
            await _says(reader, b"220")
            writer.write(b"EHLO client.example\r\n")
            await _says(reader, b"250")
            while not self.ended:
                began = time.monotonic()
                self._number += 1
                name = f"n{self._number}"
                async with asyncio.timeout(15.0):
                    writer.write(b"MAIL FROM:<app@ternferries.example>\r\n")
                    await _says(reader, b"250")
                    writer.write(f"RCPT TO:<{name}@crew.example>\r\n".encode())
                    await _says(reader, b"250")
                    writer.write(b"DATA\r\n")
                    await _says(reader, b"354")
                    writer.write(f"Subject: {name}\r\n\r\nThe boat is late.\r\n.\r\n".encode())
                    await _says(reader, b"250")
                self._outcome.acknowledged.add(name)
                await asyncio.sleep(max(0.0, began + self._interval - time.monotonic()))
        finally:
            writer.close()


async def _says(reader: asyncio.StreamReader, code: bytes) -> None:
    while True:
        line = await reader.readuntil(b"\n")
        if line[3:4] != b"-":
            break
    if not line.startswith(code):
        raise EOFError(line)


@asynccontextmanager
async def _next_hop(hosts: Hosts, outcome: Outcome, cut: list[str]) -> AsyncIterator[None]:
    def caught(one: Caught) -> None:
        outcome.copies[one.recipients[0].partition("@")[0]] += 1
        outcome.by_server[one.hello] += 1
        outcome.sent_while_cut += one.hello in cut

    stand_in = StandIn(StandInPlan(name="out.example", folder=None), caught)
    await stand_in.start(hosts.hop, HOP_PORT)
    try:
        yield
    finally:
        await stand_in.stop()


async def _events(
    servers: _Servers,
    server: DatabaseServer,
    outcome: Outcome,
    cut: list[str],
    seconds: float,
    lease: float,
    words: str,
) -> None:
    """The misfortunes, in their order, over so many seconds."""
    began = time.monotonic()

    def tell(text: str) -> None:
        outcome.events.append(f"{time.monotonic() - began:5.1f} s  {text}")

    async def until(part: float) -> None:
        await asyncio.sleep(max(0.0, began + part * seconds - time.monotonic()))

    first, _, third = servers.processes
    await until(0.08)
    first.kill()
    first.wait()
    outcome.bound += SESSIONS
    tell("server 1 killed")
    await until(0.2)
    servers.processes[0] = servers.start(0)
    tell("server 1 started again")
    await until(0.25)
    servers.hosts.cut_off(1)
    outcome.bound += SESSIONS
    tell("server 2 cut off from the database")
    lease_over = asyncio.get_running_loop().call_later(lease, cut.append, "quay2.ternferries.example")
    await until(0.42)
    outcome.bound += SESSIONS * len(servers.processes)
    await asyncio.to_thread(server.stop)
    tell("database stopped")
    await asyncio.sleep(1.3 * lease)  # so long that all leases are over
    await asyncio.to_thread(server.start, words)
    tell("database started again")
    await until(0.58)
    third.send_signal(signal.SIGSTOP)
    outcome.bound += SESSIONS
    tell("server 3 stopped")
    await asyncio.sleep(2 * lease)
    third.send_signal(signal.SIGCONT)
    tell("server 3 goes on")
    await until(1.0)
    lease_over.cancel()
    cut.clear()
    servers.hosts.join_again(1)
    tell("server 2 reaches the database again")


async def _until_relayed(url: str, outcome: Outcome) -> None:
    deadline = time.monotonic() + MOST_SECONDS
    while time.monotonic() < deadline:
        if not outcome.lost:
            with (
                contextlib.suppress(Exception),
                open_store(StorePlace(Path("/nowhere"), url, tls=False)).reader() as reader,
            ):
                if not sum(reader.totals().get(state, 0) for state in (State.QUEUED, State.DELAYED)):
                    return
        await asyncio.sleep(0.5)


async def rounds(rate: float, seconds: float, lease: float) -> Outcome:
    """One run: load for so many seconds, with the events in it; then until all has left."""
    outcome, hosts, cut = Outcome(), Hosts(3), list[str]()
    began = time.monotonic()
    with _made(hosts), tempfile.TemporaryDirectory() as folder:
        words = f"-c listen_addresses={hosts.database}"
        with database_server(words, networks=[f"{hosts.net}.0/24"]) as server:
            server.add_user("kite")
            url = f"postgresql://kite@{hosts.database}/kite"
            servers = _Servers(Path(folder), hosts, url, lease)
            try:
                async with _next_hop(hosts, outcome, cut):
                    await servers.start_all()
                    load = _Load(hosts, rate, outcome)
                    running = asyncio.create_task(load.run())
                    await _events(servers, server, outcome, cut, seconds, lease, words)
                    load.ended = True
                    await running
                    await _until_relayed(url, outcome)
            finally:
                servers.kill()
                for config in servers.configs:
                    sys.stderr.write((config.parent / "serve.log").read_text()[-3000:] if outcome.lost else "")
    outcome.seconds = time.monotonic() - began
    return outcome


@contextmanager
def _made(hosts: Hosts) -> Iterator[None]:
    try:
        hosts.make()
        yield
    finally:
        hosts.remove()


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("--rate", type=float, default=300.0)
    parser.add_argument("--seconds", type=float, default=60.0)
    parser.add_argument("--lease", type=float, default=10.0)
    given = parser.parse_args()
    outcome = asyncio.run(rounds(given.rate, given.seconds, given.lease))
    print(outcome)
    return 0 if not outcome.lost and outcome.extra <= outcome.bound else 1


if __name__ == "__main__":
    sys.exit(main())
