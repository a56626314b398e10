"""Sessions that programs open with us: silent ones, trickling ones, too many of them."""

from __future__ import annotations

import asyncio
import socket
import struct
from collections import Counter

import pytest
import uvloop

from copper_kite.net import server as server_module
from copper_kite.net.server import Handler, ServerSession
from copper_kite.net.session_registry import SessionRegistry
from copper_kite.smtp.extensions import Offers
from tests.support import SECONDS


class Clients:
    """Connections to a server of its own, whose sweeps come when the test says so."""

    def __init__(self, port: int, registry: SessionRegistry) -> None:
        self._port = port
        self._registry = registry

    async def open(self) -> tuple[asyncio.StreamReader, asyncio.StreamWriter]:
        reader, writer = await asyncio.open_connection("127.0.0.1", self._port)
        assert (await reader.readline()).startswith(b"220 ")
        return reader, writer

    async def sweep(self, writer: asyncio.StreamWriter, octets: bytes, times: int) -> None:
        """So many sweeps, with `octets` heard before each."""
        for _ in range(times):
            if octets:
                writer.write(octets)
                await asyncio.sleep(0.002)
            for session in list(self._registry._sessions):
                session.sweep()


def with_clients(test: object, *, idle: float = 60.0, longest: float = float("inf")) -> None:
    async def live() -> None:
        registry, loop = SessionRegistry(), asyncio.get_running_loop()
        made = lambda: ServerSession("q.example", Offers(), Handler(), registry, idle=idle, longest=longest)  # noqa: E731
        server = await loop.create_server(made, "127.0.0.1", 0)
        async with asyncio.timeout(SECONDS):
            await test(Clients(server.sockets[0].getsockname()[1], registry))  # type: ignore[operator]
        server.close()
        await registry.stop(0.1)

    asyncio.run(live())


@pytest.mark.parametrize("octets", [b"", b"N", b"x" * 20])
def test_silence_and_a_trickle_end_a_session(octets: bytes) -> None:
    """S-31, W-14: after the idle time, although each octet came within it; and with 421 4.4.2."""

    async def test(clients: Clients) -> None:
        reader, writer = await clients.open()
        await clients.sweep(writer, octets, 4)
        assert not reader.at_eof()
        await clients.sweep(writer, octets, 1)
        assert (await reader.read()).endswith(b"421 4.4.2 nothing heard for too long; closing\r\n")

    with_clients(test)


def test_a_trickle_in_content_ends_it_too() -> None:
    """W-14, W-15."""

    async def test(clients: Clients) -> None:
        reader, writer = await clients.open()
        writer.write(b"EHLO t\r\nMAIL FROM:<a@b.example>\r\nRCPT TO:<c@d.example>\r\nDATA\r\n")
        while not (await reader.readline()).startswith(b"354"):
            pass
        await clients.sweep(writer, b"slow\r\n", 5)
        assert (await reader.read()).startswith(b"421 4.4.2")

    with_clients(test)


def test_who_says_something_whole_stays() -> None:
    """S-31: short commands, or content at a fair rate."""

    async def test(clients: Clients) -> None:
        reader, writer = await clients.open()
        await clients.sweep(writer, b"NOOP\r\n", 120)
        writer.write(b"EHLO t\r\nMAIL FROM:<a@b.example>\r\nRCPT TO:<c@d.example>\r\nDATA\r\n")
        await clients.sweep(writer, b"x" * 70 + b"\r\n" + b"y" * 300 + b"\r\n", 20)
        writer.write(b".\r\nQUIT\r\n")
        heard = await reader.read()
        assert heard.count(b"250 done") == 120 and b"250 2.0.0 taken" in heard and b"221 2.0.0" in heard

    with_clients(test)


def test_sessions_are_bounded_all_together_and_from_one_address(monkeypatch: pytest.MonkeyPatch) -> None:
    """W-13: what is over is told, and counted down again when it goes."""
    registry = SessionRegistry(limit=3, each=2)
    monkeypatch.setattr(registry, "_sweep_later", lambda: None)

    class One:
        def __init__(self, address: str) -> None:
            self.peer = server_module.Peer(address)

    a, b, c, d = One("192.0.2.1"), One("192.0.2.1"), One("192.0.2.1"), One("192.0.2.2")
    said = [str(registry.add(item) or "")[:9] for item in (a, b, c)]  # type: ignore[arg-type]
    assert said == ["", "", "421 4.7.0"]
    for item in (c, b):
        registry.discard(item)  # type: ignore[arg-type]
        registry.discard(item)  # type: ignore[arg-type]
    said = [str(registry.add(item) or "")[:9] for item in (b, d, One(""), One("192.0.2.3"))]  # type: ignore[arg-type]
    assert said == ["", "", "421 4.3.2", "421 4.3.2"]


def test_a_session_ends_when_it_has_lasted_long_enough() -> None:
    """Between two messages, never in one."""

    async def test(clients: Clients) -> None:
        reader, writer = await clients.open()
        writer.write(b"EHLO t\r\nMAIL FROM:<a@b.example>\r\n")
        while not (await reader.readline()).startswith(b"250 2.1.0"):
            pass
        await clients.sweep(writer, b"NOOP\r\n", 8)
        writer.write(b"RCPT TO:<c@d.example>\r\nDATA\r\nx\r\n.\r\n")
        while not (await reader.readline()).startswith(b"250 2.0.0 taken"):
            pass
        await clients.sweep(writer, b"", 1)
        assert (await reader.read()).startswith(b"421 4.4.2 this session has lasted long enough")

    with_clients(test, longest=60.0)


def test_one_who_says_very_much_at_once_leaves_the_others_their_turn(monkeypatch: pytest.MonkeyPatch) -> None:
    """60,000 pipelined commands: answered in order, no more than some at a time, with turns of the loop between."""
    count, recipients = 60_000, b"RCPT TO:<c@d.example>\r\n"
    turn, said = [0], Counter[int]()
    send = server_module.send_now

    def counted(transport: object, descriptor: int, data: bytes) -> None:
        said[turn[0]] += data.count(b"\r\n")
        send(transport, descriptor, data)  # type: ignore[arg-type]

    monkeypatch.setattr(server_module, "send_now", counted)

    async def test(clients: Clients) -> None:
        loop = asyncio.get_running_loop()

        def turns() -> None:
            turn[0] += 1
            loop.call_soon(turns)

        turns()
        reader, writer = await clients.open()
        writer.write(b"EHLO t\r\nMAIL FROM:<a@b.example>\r\n" + recipients * count + b"NOOP\r\nQUIT\r\n")
        writer.write_eof()
        heard = await reader.read()
        codes = [line[:3] for line in heard.split(b"\r\n") if line[3:4] == b" "]
        assert codes == [b"250", b"250", *[b"250"] * 1000, *[b"452"] * (count - 1000), b"250", b"221"]
        assert max(said.values()) <= 2 * server_module.MAX_IN_A_TURN

    with_clients(test)


def test_a_client_that_connects_and_is_gone_leaves_nothing() -> None:
    """As port checks do: neither a session nor a word of an error stays."""

    async def live() -> None:
        loop, registry, opened = asyncio.get_running_loop(), SessionRegistry(), []

        class Noting(Handler):
            def opened(self, session: ServerSession) -> None:
                opened.append(session.peer.address)

        made = lambda: ServerSession("q.example", Offers(), Noting(), registry)  # noqa: E731
        server = await loop.create_server(made, "127.0.0.1", 0)
        address = server.sockets[0].getsockname()
        for _ in range(200):
            with socket.socket() as sock:
                sock.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, struct.pack("ii", 1, 0))
                sock.connect(address)
            await asyncio.sleep(0)
        async with asyncio.timeout(SECONDS):
            _, writer = await asyncio.open_connection(*address)  # behind all of them
            while len(registry) != 1:
                await asyncio.sleep(0)
        writer.close()
        server.close()
        assert opened == ["127.0.0.1"], "nobody was asked about those who were gone"

    uvloop.run(live())
