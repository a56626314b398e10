"""The yardstick: a uvloop server that parses nothing and stores nothing. `python -m bench.bare PORT [CERTIFICATE KEY]`.

With a certificate, its sessions are under TLS from their first octet (our own layer of it, as in `bench.load`).
"""

from __future__ import annotations

import asyncio
import ssl
import sys
from functools import partial

import uvloop

from copper_kite.net import TlsTransport
from copper_kite.settings import server_context


class Bare(asyncio.Protocol):
    """Canned replies by what a segment ends with; a group of commands gets three."""

    def __init__(self, context: ssl.SSLContext | None) -> None:
        self._context = context

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        self._transport = transport
        self._content = False
        self._tail = b""
        if self._context is None:
            self._greet(None)
        else:
            wrap = partial(self._context.wrap_bio, server_side=True)
            self._transport = TlsTransport(transport, self, wrap, self._greet, 60.0)  # type: ignore[arg-type]

    def _greet(self, error: Exception | None) -> None:
        self._transport.write(b"220 bare\r\n")  # type: ignore[attr-defined]

    def data_received(self, data: bytes) -> None:
        if self._content:
            if (self._tail + data[-5:]).endswith(b"\r\n.\r\n"):
                self._content = False
                self._transport.write(b"250 2.0.0 taken\r\n")  # type: ignore[attr-defined]
            self._tail = data[-5:]
        elif data.endswith(b"DATA\r\n"):
            self._content = True
            group = b"250 2.1.0 sender\r\n250 2.1.5 recipient\r\n" if len(data) > 6 else b""
            self._transport.write(group + b"354 go on\r\n")  # type: ignore[attr-defined]
        else:
            self._transport.write(b"250 bare\r\n")  # type: ignore[attr-defined]


async def main(port: int, *files: str) -> None:
    """Listen until killed."""
    context = server_context(*files) if files else None
    server = await asyncio.get_running_loop().create_server(lambda: Bare(context), "127.0.0.1", port)
    print("ready", flush=True)
    await server.serve_forever()


if __name__ == "__main__":
    uvloop.run(main(int(sys.argv[1]), *sys.argv[2:]))
