"""A smart host with TLS and a login that keeps only a count.

`python -m bench.sink PORT CERTIFICATE KEY MESSAGES [SECONDS]` prints "ready", and the time (monotonic, in seconds) at
which it had taken all MESSAGES. With SECONDS, each message takes so long, all sessions together.
"""

from __future__ import annotations

import asyncio
import ssl
import sys
import time
from functools import partial

import uvloop

from copper_kite.net import TlsTransport
from copper_kite.settings import server_context

REPLIES = {
    b"EHLO": b"250-sink\r\n250-PIPELINING\r\n250-SIZE 0\r\n250-8BITMIME\r\n250 AUTH PLAIN\r\n",
    b"AUTH": b"235 2.7.0 logged in\r\n",
    b"QUIT": b"221 2.0.0 closing\r\n",
    b"DATA": b"354 go on\r\n",
}


class Sink(asyncio.Protocol):
    """Replies by the first four letters of a line; counts what ends like content."""

    left = 0
    seconds = 0.0
    tells_first = False

    def __init__(self, context: ssl.SSLContext) -> None:
        self._context = context

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        self._content = False
        self._tail = b""
        wrap = partial(self._context.wrap_bio, server_side=True)
        self._transport = TlsTransport(transport, self, wrap, self._greet, 60.0)  # type: ignore[arg-type]

    def _greet(self, error: Exception | None) -> None:
        self._transport.write(b"220 sink ESMTP\r\n")

    def data_received(self, data: bytes) -> None:
        out = b""
        while data:
            if self._content:
                data, self._tail = self._tail + data, b""
                end = data.find(b"\r\n.\r\n")
                if end < 0:
                    self._tail = data[-4:]
                    break
                self._content, data = False, data[end + 5 :]
                out += b"250 2.0.0 taken\r\n"
                if Sink.tells_first:
                    Sink.tells_first = False
                    print(time.monotonic(), flush=True)
                Sink.left -= 1
                time.sleep(Sink.seconds)
                if not Sink.left:
                    print(time.monotonic(), flush=True)
            else:
                line, _, data = data.partition(b"\r\n")
                out += REPLIES.get(line[:4], b"250 2.0.0 done\r\n")
                self._content = line == b"DATA"
        self._transport.write(out)


async def main(port: int, certificate: str, key: str, messages: int, seconds: float = 0.0, first: float = 0.0) -> None:
    """Listen until killed. Each message takes so many seconds; says when the last has come, and when the `first` has,
    where that is not 0."""
    Sink.left, Sink.seconds, Sink.tells_first = messages, seconds, bool(first)
    context = server_context(certificate, key)
    server = await asyncio.get_running_loop().create_server(lambda: Sink(context), "127.0.0.1", port)
    print("ready", flush=True)
    await server.serve_forever()


if __name__ == "__main__":
    uvloop.run(main(int(sys.argv[1]), sys.argv[2], sys.argv[3], int(sys.argv[4]), *map(float, sys.argv[5:])))
