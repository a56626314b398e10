"""500 sessions at once, a tenth of them hostile: good mail all arrives, memory stays bounded, nothing hangs."""

from __future__ import annotations

import asyncio
import contextlib
import itertools
import tempfile
import time
from collections import Counter
from collections.abc import Awaitable, Callable
from pathlib import Path

from bench.site import configure, free_port, program
from bench.size import Monitoring
from copper_kite.net import make_authority
from copper_kite.store import Selection, open_store
from copper_kite.words import State

__all__ = ["flood"]

SESSIONS, HOSTILE, EACH = 500, 50, 20
CONTENT = b"Subject: good\r\n\r\n" + (b"0123456789" * 7 + b"\r\n") * 56 + b".\r\n"
ENVELOPE = b"MAIL FROM:<%s@ternferries.example>\r\nRCPT TO:<r@passenger.example>\r\nDATA\r\n"
ENDS = [b"\n.\n", b"\n.\r\n", b"\r\n.\n", b"\r.\r", b"\r\n.\r", b"\r.\r\n", b"\n.\r", b"\r\n.\r\r\n", b"\r\n\0.\r\n"]

Streams = tuple[asyncio.StreamReader, asyncio.StreamWriter]


async def say(streams: Streams, octets: bytes, replies: int) -> bytes:
    """Send, and hear so many replies; the last line."""
    reader, writer = streams
    writer.write(octets)
    await writer.drain()
    line = b""
    for _ in range(replies):
        while (line := await reader.readline())[3:4] == b"-":
            pass
        if not line:
            raise ConnectionResetError
    return line


async def good(streams: Streams) -> None:
    """Messages one after the other, each in lockstep."""
    await say(streams, b"EHLO good.example\r\n", 2)
    for _ in range(EACH):
        for command in (*ENVELOPE.splitlines(keepends=True), CONTENT):
            line = await say(streams, command % b"good" if b"%" in command else command, 1)
            assert line[:1] in b"23", line


async def slow(streams: Streams) -> None:
    for octet in itertools.cycle(b"EHLO slow"):
        await say(streams, bytes([octet]), 0)
        await asyncio.sleep(0.2)


async def silent(streams: Streams) -> None:
    await streams[0].read()


async def long_lines(streams: Streams) -> None:
    while True:
        await say(streams, b"x" * 262_144, 0)


async def storm(streams: Streams) -> None:
    while True:
        await say(streams, b"NOOP\r\nVRFY a\r\nFOO\r\nRSET\r\n" * 100, 400)


async def smuggle(streams: Streams) -> None:
    await say(streams, b"EHLO evil.example\r\n", 2)
    for end in ENDS:
        await say(streams, ENVELOPE % b"smuggler", 3)
        await say(streams, b"x" + end + ENVELOPE % b"evil" + b"y\r\n.\r\n", 1)


async def hostile(port: int, deed: Callable[[Streams], Awaitable[None]]) -> None:
    """Come again and again."""
    while True:
        with contextlib.suppress(OSError, asyncio.IncompleteReadError, ValueError):
            streams = await asyncio.open_connection("127.0.0.1", port)
            try:
                await deed(streams)
            finally:
                streams[1].transport.abort()
        await asyncio.sleep(0.05)


async def attack(port: int) -> tuple[float, float]:
    """Seconds that the good sessions took in all, and the slowest of them alone."""
    deeds = itertools.cycle((slow, silent, long_lines, storm, smuggle))
    bad = [asyncio.ensure_future(hostile(port, next(deeds))) for _ in range(HOSTILE)]
    took: list[float] = []

    async def one() -> None:
        began = time.monotonic()
        streams = await asyncio.open_connection("127.0.0.1", port)
        await good(streams)
        streams[1].close()
        took.append(time.monotonic() - began)

    began = time.monotonic()
    async with asyncio.timeout(300):
        await asyncio.gather(*(one() for _ in range(SESSIONS - HOSTILE)))
    for task in bad:
        task.cancel()
    return time.monotonic() - began, max(took)


def flood(folder: Path) -> None:
    """Print what arrived, and at what cost."""
    messages = (SESSIONS - HOSTILE) * EACH
    with tempfile.TemporaryDirectory(dir=folder) as name:
        here, port, hop = Path(name), free_port(), free_port()
        files = make_authority(here, ["localhost"])
        config = configure(here, port, hop)
        config.write_text(config.read_text().replace("[server]\n", "[server]\nsessions_per_client = 1000\n"))
        with (
            program("bench.sink", str(hop), str(files.certificate), str(files.key), str(messages)) as sink,
            program("copper_kite", "--config", str(config), "serve", ready=b"is serving") as server,
        ):
            watch = Monitoring(server.pid)
            seconds, slowest = asyncio.run(attack(port))
            assert sink.stdout is not None
            sink.stdout.readline()
            most = watch.end()
        with open_store(here / "queue").reader() as reader:
            taken = reader.select(Selection(states=tuple(State)))
        rows = Counter(row.message.reverse_path for row in taken)
    print(
        f"{SESSIONS} sessions, {HOSTILE} of them hostile: {rows['good@ternferries.example']} of {messages} good "
        f"messages arrived, in {seconds:.1f} s, the slowest session's in {slowest:.1f} s; "
        f"smuggled: {sum(count for path, count in rows.items() if path.startswith('evil'))}; "
        f"at most {most:.0f} MiB resident (goal 200)"
    )
