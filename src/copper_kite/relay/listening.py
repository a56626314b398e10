"""The addresses listened on: opened and closed one by one, so that a new configuration touches only what it changes."""

from __future__ import annotations

import asyncio
import contextlib
import socket
from collections.abc import Callable
from pathlib import Path

from copper_kite.errors import ListenFailed
from copper_kite.net import ServerSession
from copper_kite.relay.supervised import handed_over
from copper_kite.settings import Endpoint

__all__ = ["Listening", "listen_failed", "unix_socket"]

BACKLOG = 512

Factory = Callable[[], ServerSession]


class Listening:
    """Open addresses, by what they are called in the configuration."""

    def __init__(self) -> None:
        self._loop = asyncio.get_running_loop()
        self._servers: dict[Endpoint, asyncio.Server] = {}
        self._handed_over = handed_over()

    def __contains__(self, endpoint: Endpoint) -> bool:
        return endpoint in self._servers

    @property
    def endpoints(self) -> list[Endpoint]:
        """The open endpoints."""
        return list(self._servers)

    async def open(self, listener: str, endpoint: Endpoint, session: Factory) -> None:
        """Listen at `endpoint` with a new `session` for each client. Raises ListenFailed."""
        try:
            ready = self._handed_over.get(endpoint)
            if endpoint.path:
                sock = ready or unix_socket(endpoint)
                self._servers[endpoint] = await self._loop.create_unix_server(session, sock=sock)
            elif ready is not None:
                self._servers[endpoint] = await self._loop.create_server(session, sock=ready)
            else:
                self._servers[endpoint] = await self._loop.create_server(
                    session, endpoint.host, endpoint.port, backlog=BACKLOG
                )
        except OSError as error:
            raise listen_failed(listener, endpoint, error) from error

    def close(self, endpoint: Endpoint) -> None:
        """Take no more clients at `endpoint`; sessions go on."""
        self._servers.pop(endpoint).close()
        if endpoint.path and endpoint not in self._handed_over:
            with contextlib.suppress(FileNotFoundError):
                Path(endpoint.path).unlink()

    def close_all(self) -> None:
        """Take no more clients anywhere."""
        for endpoint in self.endpoints:
            self.close(endpoint)


def listen_failed(name: str, endpoint: Endpoint, error: OSError) -> ListenFailed:
    """The error for an address that cannot be opened, with a remedy."""
    if isinstance(error, PermissionError):
        remedy = "ports below 1024 need the right to bind them; try 2525" if 0 < endpoint.port < 1024 else ""
        return ListenFailed(name, str(endpoint), "not permitted", remedy)
    problem = (error.strerror or str(error)).lower()
    remedy = "another program listens there: stop it, or choose another port" if "in use" in problem else ""
    return ListenFailed(name, str(endpoint), problem, remedy)


def unix_socket(endpoint: Endpoint) -> socket.socket:
    """A socket at the path, open to every local user; a stale one is replaced, a living one is not."""
    path = Path(endpoint.path)
    path.parent.mkdir(parents=True, exist_ok=True)
    if path.exists() and not path.is_socket():
        raise OSError(0, "a file that is no socket is there: name another path, or move it away")
    sock = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
    try:
        sock.connect(endpoint.path)
    except ConnectionRefusedError:
        path.unlink()
    except FileNotFoundError:
        pass
    else:
        sock.close()
        raise OSError(0, "address already in use")
    sock.close()
    sock = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
    sock.bind(endpoint.path)
    path.chmod(0o666)
    return sock
