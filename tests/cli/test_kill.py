"""Promises 1 and 2 under kill -9: whatever was answered 250 arrives, and hardly anything twice."""

from __future__ import annotations

import asyncio
import os
import signal
import subprocess
import sys
from collections import Counter
from pathlib import Path

from copper_kite.net.authority import CertificateFiles
from tests.cli.test_commands import port_of, smart_host, take
from tests.support import environment, write_site

MESSAGES, SESSIONS, KILLS, RELAY_SESSIONS = 2000, 20, 5, 5


class Clients:
    """Sessions that hand in numbered messages, connect again when the server dies, and note which got a 250."""

    def __init__(self, port: int) -> None:
        self._port = port
        self._numbers = iter(range(MESSAGES))
        self._again: list[int] = []
        self.kept: set[int] = set()
        self.progress = asyncio.Condition()

    async def run(self) -> None:
        while (number := self._again.pop() if self._again else next(self._numbers, None)) is not None:
            try:
                reader, writer = await asyncio.open_connection("127.0.0.1", self._port)
                await self._say(reader, writer, b"EHLO t.example\r\n", 2)
                while number is not None:
                    await self._hand_in(reader, writer, number)
                    number = self._again.pop() if self._again else next(self._numbers, None)
                writer.close()
            except OSError:
                assert number is not None
                self._again.append(number)
                await asyncio.sleep(0)

    async def _say(
        self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter, octets: bytes, replies: int
    ) -> None:
        writer.write(octets)
        for _ in range(replies):
            line = await reader.readline()
            while line[3:4] == b"-":
                line = await reader.readline()
            if not line.startswith((b"2", b"3")):
                raise ConnectionResetError(line)

    async def _hand_in(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter, number: int) -> None:
        envelope = b"MAIL FROM:<>\r\nRCPT TO:<r@passenger.example>\r\nDATA\r\n"
        await self._say(reader, writer, envelope, 3)
        await self._say(reader, writer, f"X-Number: {number}\r\n\r\nhello\r\n.\r\n".encode(), 1)
        self.kept.add(number)
        async with self.progress:
            self.progress.notify_all()

    async def until_kept(self, count: int) -> None:
        async with self.progress:
            await self.progress.wait_for(lambda: len(self.kept) >= count)


def start(config: Path) -> subprocess.Popen[bytes]:
    command = [sys.executable, "-m", "copper_kite", "--config", str(config), "serve"]
    process = subprocess.Popen(command, stderr=subprocess.PIPE, env=environment())
    assert process.stderr is not None
    while b"is serving" not in (line := process.stderr.readline()):
        assert line, "the server did not start again"
    return process


def process_that_writes(server: subprocess.Popen[bytes]) -> int:
    return int(Path(f"/proc/{server.pid}/task/{server.pid}/children").read_text())


def test_nothing_answered_is_lost_and_hardly_anything_comes_twice(folder: Path, authority: CertificateFiles) -> None:
    """Q-01, Q-03: 2,000 messages over 20 sessions, killed with -9 five times under load.

    Every second time it is the process that writes: then the server stops by itself, and says why.
    """

    async def live() -> tuple[set[int], Counter[int]]:
        async with smart_host(folder, authority) as (hop, caught):
            config = write_site(folder, hop, extra=f'sessions = {RELAY_SESSIONS}\n[retry]\nwaits = ["1s"]\n')
            clients = Clients(port_of(config))
            server = await asyncio.to_thread(start, config)
            at_work = [asyncio.ensure_future(clients.run()) for _ in range(SESSIONS)]
            for kill in range(1, KILLS + 1):
                await asyncio.wait_for(clients.until_kept(MESSAGES * kill // (KILLS + 1)), 60)
                writer_first = kill % 2 == 0
                os.kill(process_that_writes(server) if writer_first else server.pid, signal.SIGKILL)
                status = await asyncio.to_thread(server.wait, 30)
                assert server.stderr is not None
                if writer_first:
                    assert status == 1 and b"the process that writes the queue is gone" in server.stderr.read()
                server = await asyncio.to_thread(start, config)
            await asyncio.wait_for(asyncio.gather(*at_work), 60)
            arrived: Counter[int] = Counter()
            while len(arrived) < MESSAGES:
                message = await take(caught)
                assert message.file is not None
                arrived[int(message.file.read_bytes().partition(b"X-Number: ")[2].split()[0])] += 1
            server.terminate()
            assert await asyncio.to_thread(server.wait, 15) == 0
            while not caught.empty():
                message = caught.get_nowait()
                assert message.file is not None
                arrived[int(message.file.read_bytes().partition(b"X-Number: ")[2].split()[0])] += 1
            return clients.kept, arrived

    kept, arrived = asyncio.run(live())
    assert len(kept) == MESSAGES and kept <= set(arrived)
    twice = sum(count - 1 for count in arrived.values())
    # A client whose 250 was lost with the server hands its message in again: at most one for each of its sessions.
    assert twice <= KILLS * (RELAY_SESSIONS + SESSIONS), f"{twice} extra copies"
    print(f"{len(kept)} answered, {len(arrived)} arrived, {twice} extra copies, {KILLS} kills")
