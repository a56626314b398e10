"""TLS between a transport and a session, both sides of it in memory."""

from __future__ import annotations

import asyncio
import ssl
from collections.abc import Callable, Coroutine
from functools import partial, wraps
from pathlib import Path
from typing import Any

from copper_kite.net.authority import make_authority
from copper_kite.net.tls_transport import TlsTransport
from copper_kite.settings.server_tls import server_context


def in_loop(test: Callable[[Path], Coroutine[Any, Any, None]]) -> Callable[[Path], None]:
    """A test that needs a running loop, for a timer that never comes to its end."""

    @wraps(test)
    def run(folder: Path) -> None:
        asyncio.run(test(folder))

    return run


class Inner:
    """A transport that keeps what is written."""

    def __init__(self) -> None:
        self.out = bytearray()
        self.closed = False
        self.protocol: Any = None

    def set_protocol(self, protocol: asyncio.BaseProtocol) -> None:
        self.protocol = protocol

    def write(self, data: bytes) -> None:
        self.out += data

    def close(self) -> None:
        self.closed = True

    abort = close

    def is_closing(self) -> bool:
        return self.closed

    def get_write_buffer_size(self) -> int:
        return 0

    def get_extra_info(self, name: str, default: Any = None) -> Any:
        return default


class Session(asyncio.Protocol):
    """Keeps what it hears."""

    def __init__(self) -> None:
        self.heard = bytearray()
        self.said_no_more = False
        self.lost: Exception | None = None
        self.times_lost = 0

    def data_received(self, data: bytes) -> None:
        self.heard += data

    def eof_received(self) -> bool:
        self.said_no_more = True
        return False

    def connection_lost(self, error: Exception | None) -> None:
        self.lost = error
        self.times_lost += 1


class Pair:
    """A client and a server, joined in memory."""

    def __init__(self, folder: Path) -> None:
        files = make_authority(folder, ["localhost"])
        server = server_context(str(files.certificate), str(files.key))
        client = ssl.create_default_context(cafile=files.authority)
        self.ended: list[Exception | None] = []
        self.inners, self.sessions = (Inner(), Inner()), (Session(), Session())
        wraps = partial(client.wrap_bio, server_hostname="localhost"), partial(server.wrap_bio, server_side=True)
        self.ends = tuple(
            TlsTransport(inner, session, wrap, self.ended.append, 60.0)  # type: ignore[arg-type]
            for inner, session, wrap in zip(self.inners, self.sessions, wraps, strict=True)
        )
        self.ends[0].begin()
        self.carry()

    def carry(self, step: int = 1 << 20) -> None:
        """What each has written to the other, `step` octets at a time, until both are silent."""
        while any(inner.out for inner in self.inners):
            for inner, other in zip(self.inners, reversed(self.ends), strict=True):
                data = bytes(inner.out[:step])
                del inner.out[:step]
                if data:
                    other.data_received(data)


@in_loop
async def test_octets_of_many_records_arrive_however_they_are_cut(folder: Path) -> None:
    """One write is more than a record holds; what is left of a record waits for the rest of it."""
    pair = Pair(folder)
    assert pair.ended == [None, None]
    octets = b"A line of the passengers' list.\r\n" * 3000
    pair.ends[0].write(octets)
    pair.carry(step=1009)
    assert bytes(pair.sessions[1].heard) == octets
    pair.ends[1].write(b"250 2.0.0 taken\r\n")
    pair.carry(step=1)
    assert bytes(pair.sessions[0].heard) == b"250 2.0.0 taken\r\n"


@in_loop
async def test_the_end_is_said_and_heard(folder: Path) -> None:
    """RFC 8446 6.1: a close_notify, and only then the end of the connection."""
    pair = Pair(folder)
    pair.ends[1].write(b"221 2.0.0 closing\r\n")
    pair.ends[1].close()
    pair.carry()
    assert bytes(pair.sessions[0].heard) == b"221 2.0.0 closing\r\n"
    assert pair.sessions[0].said_no_more and pair.inners[0].closed and pair.inners[1].closed


@in_loop
async def test_garbage_ends_it_and_nothing_more_is_sent(folder: Path) -> None:
    """Whoever writes afterwards learns of it as of any lost connection, not by an error of TLS."""
    pair = Pair(folder)
    pair.ends[0].data_received(b"220 this is not TLS\r\n" * 10)
    assert pair.inners[0].closed and pair.ends[0].is_closing()
    alert = len(pair.inners[0].out)
    pair.ends[0].write(b"QUIT\r\n")
    assert alert and len(pair.inners[0].out) == alert
    pair.ends[0].connection_lost(None)
    assert isinstance(pair.sessions[0].lost, ssl.SSLError)


@in_loop
async def test_a_connection_that_is_gone_before_the_handshake_is_told(folder: Path) -> None:
    """The loop tells a transport's protocol once that it is lost, and that may have been before TLS took its place."""
    inner, session, ended = Inner(), Session(), []
    inner.close()
    wrap = partial(ssl.create_default_context().wrap_bio, server_hostname="localhost")
    secured = TlsTransport(inner, session, wrap, ended.append, 60.0)  # type: ignore[arg-type]
    await asyncio.sleep(0)
    secured.connection_lost(None)
    assert len(ended) == 1 and isinstance(ended[0], ConnectionResetError) and session.times_lost == 1


@in_loop
async def test_a_handshake_that_is_cut_is_told_once(folder: Path) -> None:
    inner, session, ended = Inner(), Session(), []
    wrap = partial(ssl.create_default_context().wrap_bio, server_hostname="localhost")
    secured = TlsTransport(inner, session, wrap, ended.append, 60.0)  # type: ignore[arg-type]
    secured.begin()
    assert inner.out
    secured.connection_lost(None)
    (error,) = ended
    assert isinstance(error, ConnectionResetError)
