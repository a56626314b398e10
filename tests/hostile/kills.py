"""Promises 1 and 2 under kill -9, with next hops and clients that misbehave at the same time.

`python -m tests.hostile.kills --messages 1000000 --kills 500 --seed 1`: numbered messages are submitted over several
sessions beside hostile clients, the smart host misbehaves by chance, the configuration has one connector or another carry
the mail, and the server or the process that writes is killed at random moments. At the end the smart host behaves, everything drains, and what was answered is counted against what
the smart host took.
"""

from __future__ import annotations

import argparse
import asyncio
import contextlib
import itertools
import os
import random
import signal
import socket
import subprocess
import sys
import tempfile
import time
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from copper_kite.report import Difference, compare_counts
from copper_kite.store import open_store
from copper_kite.words import FINAL, State
from tests.hostile.clients import WHOLE, WORDS
from tests.hostile.delivery import EXTENSIONS
from tests.hostile.peer import Host, Peer
from tests.hostile.virtual import RandomChoices
from tests.support import environment, free_port, write_site

__all__ = ["Outcome", "process_that_writes", "rounds"]

SESSIONS, RELAY_SESSIONS, HOSTILE = 20, 5, 3
FASTER = 300.0  # the smart host's pauses, and our patience with it, are shorter by this
IDLE_SECONDS = 1.0  # of a connection to the smart host, after which it is reset
MOST_SECONDS = 120.0  # without any progress: then something is stuck


class _FasterLoop:
    """The running loop, whose timers fire sooner."""

    def call_later(self, seconds: float, act: Callable[[], None]) -> None:
        asyncio.get_running_loop().call_later(seconds / FASTER, act)


class _Wire(asyncio.Protocol):
    """A misbehaving peer's end of a real connection."""

    def __init__(self, host: Host) -> None:
        self._peer = Peer(host)
        self._transport: asyncio.Transport
        self._idle: asyncio.TimerHandle | None = None

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        assert isinstance(transport, asyncio.Transport)
        self._transport = transport
        self._peer.link = self  # type: ignore[assignment]
        self._rest()
        self._peer.connected()

    def data_received(self, data: bytes) -> None:
        self._rest()
        self._peer.heard(data)

    def connection_lost(self, error: Exception | None) -> None:
        if self._idle is not None:
            self._idle.cancel()
        self._peer.gone()

    def _rest(self) -> None:
        if self._idle is not None:
            self._idle.cancel()
        self._idle = asyncio.get_running_loop().call_later(IDLE_SECONDS, self._transport.abort)

    def say(self, data: bytes) -> None:
        if not self._transport.is_closing():
            self._transport.write(data)

    def shut(self, *, reset: bool = False) -> None:
        if reset:
            self._transport.abort()
        else:
            self._transport.close()


@dataclass
class _Clients:
    """Sessions that submit numbered messages, connect again when the server dies, and note what was answered."""

    port: int
    messages: int
    next: int = 0
    again: list[int] = field(default_factory=list)
    kept: set[int] = field(default_factory=set)
    unsure: Counter[int] = field(default_factory=Counter)  # how often a message was sent whole and not answered
    progress: asyncio.Condition = field(default_factory=asyncio.Condition)

    def _number(self) -> int | None:
        if self.again:
            return self.again.pop()
        self.next += 1
        return self.next - 1 if self.next <= self.messages else None

    async def run(self) -> None:
        number = self._number()
        while number is not None:
            writer: asyncio.StreamWriter | None = None
            try:
                reader, writer = await asyncio.open_connection("127.0.0.1", self.port)
                await _say(reader, writer, b"EHLO t.example\r\n", 2)
                while number is not None:
                    await self._hand_in(reader, writer, number)
                    number = self._number()
            except OSError:
                await asyncio.sleep(0.05)
            finally:
                if writer is not None:
                    writer.close()

    async def _hand_in(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter, number: int) -> None:
        path = f"MAIL FROM:<s{number}@x.example>\r\nRCPT TO:<r{number}@y.example> NOTIFY=NEVER\r\nDATA\r\n"
        await _say(reader, writer, path.encode(), 3)
        self.unsure[number] += 1
        await _say(reader, writer, f"Message-ID: <{number}@n.example>\r\n\r\nhello\r\n.\r\n".encode(), 1)
        self.unsure[number] -= 1
        self.kept.add(number)
        async with self.progress:
            self.progress.notify_all()

    async def until_kept(self, count: int) -> None:
        async with asyncio.timeout(MOST_SECONDS), self.progress:
            await self.progress.wait_for(lambda: len(self.kept) >= count)


async def _say(reader: asyncio.StreamReader, writer: asyncio.StreamWriter, octets: bytes, replies: int) -> None:
    writer.write(octets)
    for _ in range(replies):
        line = await reader.readline()
        while line[3:4] == b"-":
            line = await reader.readline()
        if not line.startswith((b"2", b"3")):
            raise ConnectionResetError(line)


async def _annoy(port: int, chance: random.Random) -> None:
    """Connect again and again and say things in no good order."""
    while True:
        with contextlib.suppress(OSError):
            _, writer = await asyncio.open_connection("127.0.0.1", port)
            with contextlib.suppress(OSError):
                for words in chance.choices([*WORDS, WHOLE], k=1 + chance.randrange(10)):
                    writer.write(words)
                    await writer.drain()
                if chance.randrange(2):
                    await asyncio.sleep(0.05 * chance.random())
            if chance.randrange(2):
                writer.transport.abort()
            writer.close()
        await asyncio.sleep(0.02)


@dataclass(frozen=True, slots=True)
class Outcome:
    """What was counted at the end."""

    kept: int
    relayed: int
    refused: int
    lost: list[int]  # answered, and neither taken nor refused
    untrue: list[int]  # recorded as relayed, and never taken
    stuck: int
    extra: int  # copies beyond the first
    bound: int  # of `extra`
    kills: int
    seconds: float
    counted: int  # recipients in the hourly counts
    miscounted: list[Difference]  # where these are not what the journal says

    @property
    def right(self) -> bool:
        result = self.lost or self.untrue or self.stuck or self.miscounted
        return not result and self.extra <= self.bound

    def __str__(self) -> str:
        return (
            f"{self.kept} answered, {self.relayed} relayed, {self.refused} refused by the smart host,"
            f" {self.kills} kills, {self.seconds:.0f} s: {len(self.lost)} lost, {len(self.untrue)} relayed untruly,"
            f" {self.stuck} stuck, {self.extra} extra copies of at most {self.bound};"
            f" {self.counted} counted by the hour, {len(self.miscounted)} hours otherwise than the journal says"
        )


def _start(config: Path) -> subprocess.Popen[bytes]:
    command = [sys.executable, "-m", "copper_kite", "--config", str(config), "serve"]
    with (config.parent / "serve.log").open("ab") as log:
        process = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=log, env=environment())
    port = int(config.read_text().partition('bind = ["127.0.0.1:')[2].partition('"')[0])
    return _ready(process, port)


def _ready(process: subprocess.Popen[bytes], port: int) -> subprocess.Popen[bytes]:
    deadline = time.monotonic() + MOST_SECONDS
    while time.monotonic() < deadline and process.poll() is None:
        with contextlib.suppress(OSError), socket.create_connection(("127.0.0.1", port), 1.0) as sock:
            if sock.recv(4) == b"220 ":
                return process
        time.sleep(0.02)
    raise AssertionError("the server did not start")


def process_that_writes(server: subprocess.Popen[bytes]) -> int | None:
    """The process that writes, a child of the server."""
    with contextlib.suppress(OSError):
        children = Path(f"/proc/{server.pid}/task/{server.pid}/children").read_text().split()
        return int(children[0]) if children else None
    return None


async def _reroute(config: Path, running: list[subprocess.Popen[bytes]], chance: random.Random) -> None:
    """Have another connector carry the mail, and the first one again, while it goes on."""
    texts = itertools.cycle(_two_ways(config))
    while True:
        await asyncio.sleep(0.5 + chance.random())
        if running:  # while it starts, the signal would end it
            await asyncio.to_thread(config.write_text, next(texts))
            with contextlib.suppress(ProcessLookupError):
                running[0].send_signal(signal.SIGHUP)


def _two_ways(config: Path) -> tuple[str, str]:
    """The configuration with another connector for all that is submitted, and as it is."""
    text = config.read_text()
    port = text.partition('hosts = ["localhost:')[2].partition('"')[0]
    other = f'[[connector]]\nname = "other"\nhosts = ["localhost:{port}"]\ntls = "off"\nrecipients = ["y.example"]\n'
    return text.replace("[retry]", f"{other}[retry]"), text


async def rounds(folder: Path, messages: int, kills: int, seed: int, badness: int = 10) -> Outcome:
    """Hand `messages` in while either process is killed `kills` times; the count of what came of them."""
    began, chance = time.monotonic(), random.Random(seed)
    host = Host(RandomChoices(seed), _FasterLoop(), badness, EXTENSIONS[:4], most_messages=200)  # type: ignore[arg-type]
    listening = await asyncio.get_running_loop().create_server(lambda: _Wire(host), "127.0.0.1", 0)
    retry = '[retry]\nwaits = ["2s", "1s"]\nlifetime = "10d"\n'
    config = write_site(
        folder, listening.sockets[0].getsockname()[1], tls="off", port=free_port(),
        extra=f"sessions = {RELAY_SESSIONS}\n{retry}",
    )  # fmt: skip
    server = await asyncio.to_thread(_start, config)
    clients = _Clients(int(config.read_text().partition('bind = ["127.0.0.1:')[2].partition('"')[0]), messages)
    at_work = [asyncio.ensure_future(clients.run()) for _ in range(SESSIONS)]
    annoying = [asyncio.ensure_future(_annoy(clients.port, random.Random(chance.random()))) for _ in range(HOSTILE)]
    running = [server]
    annoying.append(asyncio.ensure_future(_reroute(config, running, random.Random(chance.random()))))
    for kill in range(1, kills + 1):
        await clients.until_kept(messages * kill // (kills + 1))
        await asyncio.sleep(0.2 * chance.random())
        victim = (chance.randrange(2) and process_that_writes(server)) or server.pid
        running.clear()
        os.kill(victim, signal.SIGKILL)
        await asyncio.to_thread(server.wait, 60)
        server = await asyncio.to_thread(_start, config)
        running.append(server)
    await clients.until_kept(messages)
    await asyncio.gather(*at_work)
    for task in annoying:
        task.cancel()
    host.badness = 0
    await _drained(folder / "queue", host)
    server.terminate()
    await asyncio.to_thread(server.wait, 60)
    listening.close()
    return await asyncio.to_thread(_count, folder / "queue", clients, host, kills, time.monotonic() - began)


async def _drained(data: Path, host: Host) -> None:
    """Until nothing waits; as long as something still moves."""
    before, since = (-1, -1), time.monotonic()
    while time.monotonic() - since < MOST_SECONDS:
        now = (_waiting(data), sum(host.taken.values()))
        if not now[0]:
            return
        if now != before:
            before, since = now, time.monotonic()
        await asyncio.sleep(0.5)


def _waiting(data: Path) -> int:
    with open_store(data).reader() as reader:
        return len(reader.queue(tuple(state for state in State if state not in FINAL)))


def _count(data: Path, clients: _Clients, host: Host, kills: int, seconds: float) -> Outcome:
    copies: Counter[int] = Counter()
    for (message, _), count in host.taken.items():
        name = message.removeprefix("<").removesuffix("@n.example>")
        if name.isdigit():
            copies[int(name)] += count
    refused = {int(name[1:].partition("@")[0]) for name in _numbered(host.refused)}
    lost = sorted(number for number in clients.kept if not copies[number] and number not in refused)
    relayed, untrue, uncertain = _recorded(data, copies)
    extra = sum(count - 1 for count in copies.values() if count > 1)
    bound = uncertain + sum(clients.unsure.values()) + kills * RELAY_SESSIONS
    with open_store(data).reader() as reader:
        counted, differences = compare_counts(reader, 0, 2**40)
    return Outcome(
        len(clients.kept), relayed, len(refused), lost, untrue, _waiting(data), extra, bound, kills, seconds, counted,
        differences,
    )  # fmt: skip


def _numbered(names: set[str]) -> list[str]:
    """Of recipients and `<senders>`, those of numbered messages, without brackets."""
    plain = (name.strip("<>") for name in names)
    return [name for name in plain if name[1:].partition("@")[0].isdigit()]


def _recorded(data: Path, copies: Counter[int]) -> tuple[int, list[int], int]:
    """Relayed recipients, those of them that were never taken, and attempts that may have been taken unknown to us."""
    relayed, untrue, uncertain = 0, [], 0
    with open_store(data).reader() as reader:
        for row in reader.queue((State.RELAYED, State.FAILED)):
            name = row.recipient.address[1:].partition("@")[0]
            if not name.isdigit():
                continue
            if row.recipient.state is State.RELAYED:
                relayed += 1
                if not copies[int(name)]:
                    untrue.append(int(name))
            if row.recipient.attempts > 1 or row.recipient.state is State.FAILED:
                uncertain += sum(map(_is_uncertain, reader.record(row.message.id).attempts))
    return relayed, untrue, uncertain


def _is_uncertain(attempt: Any) -> bool:
    return any(
        state != "relayed" and stage in ("content", "accept") and reply[:3] in ("", "421")
        for _, state, stage, reply in attempt.facts.results
    )


def main() -> int:
    """Run it in a folder of its own; exit 1 when anything was lost, untrue, stuck or sent too often."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--messages", type=int, default=20_000)
    parser.add_argument("--kills", type=int, default=20)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--badness", type=int, default=10, help="misdeeds of the smart host in a hundred replies")
    given = parser.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        outcome = asyncio.run(rounds(Path(folder), given.messages, given.kills, given.seed, given.badness))
    print(outcome)
    return 0 if outcome.right else 1


if __name__ == "__main__":
    raise SystemExit(main())
