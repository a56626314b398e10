"""How long a bystander waits while somebody else attacks: `python -m tests.hostile.stalls`.

A server of its own, as a process. One client submits message after message and notes the longest time to a reply, in
each attack and without any. What it prints is a measurement; what holds in any case is tested where each attack is.
"""

from __future__ import annotations

import asyncio
import contextlib
import subprocess
import sys
import tempfile
import time
from collections.abc import Awaitable, Callable
from pathlib import Path

from tests.support import environment, free_port, write_site

__all__ = ["longest_stalls"]

HELLO = b"EHLO t.example\r\n"
TO = b"MAIL FROM:<a@x.example>\r\nRCPT TO:<b@y.example>\r\nDATA\r\n"
SECONDS = 3.0  # of quiet, for comparison


async def _say(port: int, octets: bytes, *, hear: bool = True) -> None:
    """One session that says all of this at once."""
    reader, writer = await asyncio.open_connection("127.0.0.1", port)
    with contextlib.suppress(OSError):
        writer.write(octets)
        await writer.drain()
        if hear:
            await reader.read()
    writer.transport.abort()


async def _come_and_go(port: int) -> None:
    for _ in range(30):
        await asyncio.gather(*(_say(port, b"", hear=False) for _ in range(100)))


async def _drips(port: int) -> None:
    async def drip() -> None:
        _, writer = await asyncio.open_connection("127.0.0.1", port)
        with contextlib.suppress(OSError):
            for octet in HELLO + TO:
                writer.write(bytes([octet]))
                await writer.drain()
                await asyncio.sleep(0.02)
        writer.transport.abort()

    await asyncio.gather(*(drip() for _ in range(200)))


def _message(header: bytes, body: bytes = b"\xe4\r\n") -> bytes:
    return HELLO + TO + header + b"\r\n\r\n" + body + b".\r\nQUIT\r\n"


RECIPIENTS = b"".join(b"RCPT TO:<r%d@y.example>\r\n" % number for number in range(60_000))
FOLDED = b"Content-Type: text/plain" + b"".join(b";\r\n p%d*0*=utf-8''%%41" % number for number in range(9000))
ATTACKS: dict[str, Callable[[int], Awaitable[object]]] = {
    "nothing": lambda port: asyncio.sleep(SECONDS),
    "60,000 recipients in one breath": lambda port: _say(
        port, HELLO + b"MAIL FROM:<a@x.example>\r\n" + RECIPIENTS + b"QUIT\r\n"
    ),
    "200,000 commands that mean nothing": lambda port: _say(port, HELLO + b"NOOP\r\n" * 200_000 + b"QUIT\r\n"),
    "a parameter list of 180 KB": lambda port: _say(port, _message(FOLDED)),
    "an address of 700 brackets": lambda port: _say(port, _message(b"From: " + b"(" * 700)),
    "250 KB of encoded words": lambda port: _say(port, _message(b"Subject: " + b"=?utf-8?Q?=C3=A4?=\r\n " * 12_000)),
    "2,000 parts within each other": lambda port: _say(
        port, _message(b"Content-Type: multipart/mixed; boundary=b", b"--b\r\nContent-Type: multipart/mixed\r\n" * 2000)
    ),
    "a line of 30 MB": lambda port: _say(port, HELLO + TO + b"x" * 30_000_000 + b"\r\n.\r\nQUIT\r\n"),
    "3,000 that connect and are gone": _come_and_go,
    "200 that drip": _drips,
}


async def _bystander(port: int, over: asyncio.Event) -> float:
    """The longest time to a reply, in seconds."""
    reader, writer = await asyncio.open_connection("127.0.0.1", port)
    await reader.readline()
    writer.write(HELLO)
    while (await reader.readline())[3:4] == b"-":
        pass
    longest = 0.0
    while not over.is_set():
        for octets, replies in ((TO, 3), (b"\r\nx\r\n.\r\n", 1)):
            began = time.monotonic()
            writer.write(octets)
            for _ in range(replies):
                assert (await reader.readline())[:1] in b"23"
            longest = max(longest, time.monotonic() - began)
        await asyncio.sleep(0.01)
    writer.close()
    return longest


async def longest_stalls(port: int) -> dict[str, float]:
    """By attack, in seconds."""
    result = {}
    for name, attack in ATTACKS.items():
        over = asyncio.Event()
        bystander = asyncio.ensure_future(_bystander(port, over))
        await attack(port)
        over.set()
        result[name] = await bystander
    return result


def main() -> None:
    """Start a server, and print what each attack did to the bystander."""
    with tempfile.TemporaryDirectory() as folder:
        config = write_site(Path(folder), free_port(), tls="off", port=free_port())
        config.write_text(config.read_text().replace("[[connector]]", '[[connector]]\nsender = "a@b.example"', 1))
        port = int(config.read_text().partition('bind = ["127.0.0.1:')[2].partition('"')[0])
        command = [sys.executable, "-m", "copper_kite", "--config", str(config), "serve"]
        server = subprocess.Popen(command, stderr=subprocess.PIPE, env=environment())
        assert server.stderr is not None
        while b"is serving" not in server.stderr.readline():
            pass
        draining = subprocess.Popen(["cat"], stdin=server.stderr, stdout=subprocess.DEVNULL)
        try:
            for name, seconds in asyncio.run(longest_stalls(port)).items():
                print(f"{seconds * 1000:8.0f} ms  {name}")
        finally:
            server.terminate()
            server.wait()
            draining.wait()


if __name__ == "__main__":
    main()
