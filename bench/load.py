"""The load generator, a process of its own: sessions that submit messages, one after the other, in lockstep.

    python -m bench.load PORT SESSIONS MESSAGES OCTETS lockstep|pipelined [AUTHORITY]

prints the seconds from the first message to the last reply. It knows just enough to be quick: commands of a message go
one at a time, each after the reply to the one before, as the clients of programming languages send them; with
`pipelined` they go as one group. With the file of an AUTHORITY, sessions are under TLS from their first octet (our own
layer of it, since the event loop's takes longer than all else here). Every reply is checked, and every message has a
recipient and a Message-ID of its own.
"""

from __future__ import annotations

import asyncio
import ssl
import sys
import time
from functools import partial

import uvloop

from copper_kite.net import TlsTransport

MAIL = b"MAIL FROM:<ticketing@ternferries.example>\r\n"
RCPT = b"RCPT TO:<passenger%d@passenger.example>\r\n"
DATA = b"DATA\r\n"


def make_message(octets: int) -> bytes:
    """A message of about `octets` octets: a header and lines of text."""
    header = (
        b"From: Ticketing <ticketing@ternferries.example>\r\nTo: ana@passenger.example\r\n"
        b"Subject: Your crossing\r\nDate: Mon, 04 May 2026 09:00:00 +0000\r\n"
        b"Message-ID: <booking.%d@ternferries.example>\r\n\r\n"
    )
    line = b"The 09:00 from North Quay is on time, and your seat is kept for you.\r\n"
    return header + line * ((octets - len(header)) // len(line))


class Session(asyncio.Protocol):
    """One client. `next_message` says whether there is another one to send."""

    def __init__(self, load: Load, context: ssl.SSLContext | None) -> None:
        self._load = load
        self._context = context
        self._step = self._greeted
        self._wanted = 1
        self._rest = b""
        self._number = 0
        self._transport: asyncio.Transport | None = None

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        self._transport = transport  # type: ignore[assignment]
        if self._context is not None:
            wrap = partial(self._context.wrap_bio, server_hostname="localhost")
            self._transport = secured = TlsTransport(transport, self, wrap, self._secured, 60.0)  # type: ignore[arg-type]
            secured.begin()

    def _secured(self, error: Exception | None) -> None:
        if error is not None:
            self._load.stop(f"TLS: {error}")

    def data_received(self, data: bytes) -> None:
        for line in (self._rest + data).splitlines(keepends=True):
            if not line.endswith(b"\n"):
                self._rest = line
                return
            if line[:1] not in b"23":
                self._load.stop(f"refused: {line!r}")
                return
            self._wanted -= line[3:4] != b"-"
        self._rest = b""
        if self._wanted <= 0:
            self._step()

    def _send(self, data: bytes, wanted: int, step: object) -> None:
        self._wanted, self._step = wanted, step
        self._transport.write(data)  # type: ignore[union-attr]

    def _greeted(self) -> None:
        self._send(b"EHLO load.ternferries.example\r\n", 1, self._ready)

    def _ready(self) -> None:
        self._load.ready()

    def begin(self) -> None:
        """Send the next message, if there is one."""
        number = self._number = self._load.take()
        if number < 0:
            return
        self._rcpt = RCPT % number
        if self._load.pipelined:
            self._send(MAIL + self._rcpt + DATA, 3, self._content)
        else:
            self._send(MAIL, 1, self._recipient)

    def _recipient(self) -> None:
        self._send(self._rcpt, 1, self._data)

    def _data(self) -> None:
        self._send(DATA, 1, self._content)

    def _content(self) -> None:
        self._send(self._load.content % self._number, 1, self._taken)

    def _taken(self) -> None:
        self._load.taken()
        self.begin()


class Load:
    """All sessions and the count of their messages."""

    def __init__(self, sessions: int, messages: int, octets: int, pipelined: bool) -> None:
        self.pipelined = pipelined
        self.failure = ""
        self.content = make_message(octets) + b".\r\n"
        self._unready = sessions
        self._left = messages
        self._unanswered = messages
        self.all_ready = asyncio.Event()
        self.all_taken = asyncio.Event()

    def stop(self, reason: str) -> None:
        """Something went wrong: the run counts for nothing."""
        self.failure = reason
        self.all_ready.set()
        self.all_taken.set()

    def ready(self) -> None:
        """A session is through its EHLO."""
        self._unready -= 1
        if not self._unready:
            self.all_ready.set()

    def take(self) -> int:
        """The number of the next message to send; negative when there is none."""
        self._left -= 1
        return self._left

    def taken(self) -> None:
        """A message was answered with 250."""
        self._unanswered -= 1
        if not self._unanswered:
            self.all_taken.set()


async def main(port: int, sessions: int, messages: int, octets: int, pipelined: bool, authority: str = "") -> None:
    """Connect all sessions, then start the clock."""
    loop = asyncio.get_running_loop()
    load = Load(sessions, messages, octets, pipelined)
    context = ssl.create_default_context(cafile=authority) if authority else None
    clients = [
        (await loop.create_connection(lambda: Session(load, context), "127.0.0.1", port))[1] for _ in range(sessions)
    ]
    await load.all_ready.wait()
    began = time.perf_counter()
    for client in clients:
        client.begin()
    await load.all_taken.wait()
    if load.failure:
        raise SystemExit(load.failure)
    print(time.perf_counter() - began)


if __name__ == "__main__":
    uvloop.run(main(*map(int, sys.argv[1:5]), sys.argv[5] == "pipelined", *sys.argv[6:]))
