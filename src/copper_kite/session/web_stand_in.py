"""A stand-in HTTP server (RFC 9112): policy hosts and token servers, good and bad, on this machine."""

from __future__ import annotations

import asyncio
import contextlib
import ssl
from collections.abc import Awaitable, Callable
from dataclasses import dataclass, field

__all__ = ["Respond", "WebReply", "WebRequest", "WebStandIn", "policy_responder"]

MAX_HEAD = 64 * 1024  # octets of a request before its body
MAX_BODY = 1024 * 1024
PATIENCE = 30.0  # seconds for a request


@dataclass(frozen=True, slots=True)
class WebRequest:
    """A request; the names of its fields in lower case."""

    method: str
    path: str
    fields: dict[str, str]
    body: bytes = b""


@dataclass(frozen=True, slots=True)
class WebReply:
    """A reply, given after `delay` seconds; None for `status` closes without a word."""

    status: int | None = 200
    body: bytes = b""
    kind: str = "text/plain"
    fields: dict[str, str] = field(default_factory=dict)
    delay: float = 0.0


Respond = Callable[[WebRequest], WebReply | Awaitable[WebReply]]


class WebStandIn:
    """A server for one request a connection. `respond` decides; `asked` has what was asked."""

    def __init__(self, respond: Respond, context: ssl.SSLContext | None) -> None:
        self._respond = respond
        self._context = context
        self._server: asyncio.Server | None = None
        self.asked: list[WebRequest] = []

    async def start(self, host: str, port: int) -> int:
        """Listen; the port. Raises OSError."""
        self._server = await asyncio.start_server(self._serve, host, port, ssl=self._context, limit=MAX_HEAD)
        return int(self._server.sockets[0].getsockname()[1])

    async def stop(self) -> None:
        """Listen no longer."""
        if self._server is not None:
            self._server.close()

    async def _serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        with contextlib.suppress(
            OSError, TimeoutError, ValueError, asyncio.IncompleteReadError, asyncio.LimitOverrunError
        ):
            async with asyncio.timeout(PATIENCE):
                request = await _read_request(reader)
            self.asked.append(request)
            answered = self._respond(request)
            reply = answered if isinstance(answered, WebReply) else await answered
            await asyncio.sleep(reply.delay)
            if reply.status is not None:
                writer.write(_octets(reply))
                await writer.drain()
        writer.close()


async def _read_request(reader: asyncio.StreamReader) -> WebRequest:
    """Raises ValueError for what is no request."""
    head = (await reader.readuntil(b"\r\n\r\n")).decode("latin-1").split("\r\n")
    method, path, _ = head[0].split(" ", 2)
    pairs = [line.partition(":") for line in head[1:] if line]
    fields = {name.strip().lower(): value.strip() for name, _, value in pairs}
    length = int(fields.get("content-length", "0"))
    if not 0 <= length <= MAX_BODY:
        raise ValueError("a body that is too long")
    return WebRequest(method, path, fields, await reader.readexactly(length))


def _octets(reply: WebReply) -> bytes:
    fields = {"Content-Type": reply.kind, "Content-Length": str(len(reply.body)), "Connection": "close", **reply.fields}
    head = [f"HTTP/1.1 {reply.status} x", *(f"{name}: {value}" for name, value in fields.items()), "", ""]
    return "\r\n".join(head).encode("latin-1") + reply.body


def policy_responder(policies: dict[str, str]) -> Respond:
    """The replies of an MTA-STS policy host: for each domain the text of its policy (RFC 8461 3.3)."""

    def respond(request: WebRequest) -> WebReply:
        domain = request.fields.get("host", "").partition(":")[0].removeprefix("mta-sts.").lower()
        if request.path != "/.well-known/mta-sts.txt" or domain not in policies:
            return WebReply(404)
        return WebReply(body=policies[domain].encode())

    return respond
