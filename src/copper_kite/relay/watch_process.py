"""The process that looks after the server from beside it (`copper_kite.metrics.server`): started, kept alive, ended.

It answers monitoring programs, and says what is so of that which alarms watch.
"""

from __future__ import annotations

import asyncio
import contextlib
import json
import os
import socket
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any, NamedTuple

from copper_kite.relay.listening import listen_failed, unix_socket
from copper_kite.relay.log import Log
from copper_kite.relay.supervisor import Supervisor
from copper_kite.settings import Endpoint, Loaded

__all__ = ["WatchProcess"]

BEAT_SECONDS = 1.0  # from one sign of our life to the next
AGAIN_SECONDS = 10.0  # from one start of the process to the next, when it ends by itself
BACKLOG = 32
READ_OCTETS = 65536
NAME = "[metrics]"  # in errors, where a listener has its name


class _Bound(NamedTuple):
    """An address that is ours."""

    endpoint: Endpoint
    sock: socket.socket

    def close(self) -> None:
        self.sock.close()
        if self.endpoint.path:
            Path(self.endpoint.path).unlink(missing_ok=True)


class WatchProcess:
    """Holds the socket and has one process answer at it. `heard` gets each line that it says."""

    def __init__(self, supervisor: Supervisor, log: Log, heard: Callable[[dict[str, Any]], None]) -> None:
        self._log = log
        self._heard = heard
        self._loop = asyncio.get_running_loop()
        self._rest = b""
        self._bound: _Bound | None = None
        self._next: _Bound | None = None
        self._process: subprocess.Popen[bytes] | None = None
        self._loaded: Loaded | None = None
        self._started = 0.0
        self._timer = supervisor.every(BEAT_SECONDS, self._beat)

    @property
    def pid(self) -> int | None:
        """Of the process, while there is one."""
        return None if self._process is None else self._process.pid

    def bind(self, loaded: Loaded) -> None:
        """Have the address that `loaded` names, beside the one in use; `take_up` or `unbind` follows.

        Raises ListenFailed.
        """
        endpoint = loaded.settings.metrics.bind
        if endpoint is not None and (self._bound is None or endpoint != self._bound.endpoint):
            self._next = _bound_to(endpoint)

    def unbind(self) -> None:
        """Let go of what `bind` has made ready."""
        if self._next is not None:
            self._next.close()
        self._next = None

    def take_up(self, loaded: Loaded) -> None:
        """Answer where `bind` has made ready, and for whom `loaded` says."""
        if self._bound is not None and loaded.settings.metrics.bind != self._bound.endpoint:
            self._bound.close()
            self._bound = None
        self._bound, self._next = self._next or self._bound, None
        self._loaded = loaded
        self._end_process()
        self._start(loaded)

    def stop(self) -> None:
        """Answer no more."""
        self._timer.cancel()
        self.unbind()
        self._end_process()
        if self._bound is not None:
            self._bound.close()

    def _start(self, loaded: Loaded) -> None:
        """Start the process, if there is anything for it to do."""
        settings = loaded.settings
        if self._bound is None and not settings.report.to and not any(alarm.enabled for alarm in settings.alarm):
            return
        descriptors = [self._bound.sock.fileno()] if self._bound is not None else []
        words = [sys.executable, "-P", "-m", "copper_kite.metrics.server", *map(str, descriptors)]
        self._process = subprocess.Popen(
            words, stdin=subprocess.PIPE, stdout=subprocess.PIPE, pass_fds=descriptors, bufsize=0
        )
        assert self._process.stdout is not None
        self._loop.add_reader(self._process.stdout.fileno(), self._hear, self._process.stdout.fileno())
        self._started = time.monotonic()
        told = {
            "path": str(loaded.path),
            "source": loaded.source,
            "data": str(loaded.data),
            "server_name": loaded.server_name,
        }
        assert self._process.stdin is not None
        with contextlib.suppress(BrokenPipeError):
            self._process.stdin.write(json.dumps(told).encode() + b"\n")
            os.set_blocking(self._process.stdin.fileno(), False)

    def _beat(self) -> None:
        """Tell the process that we live; start another one where it does not."""
        if self._process is None or self._process.stdin is None or self._loaded is None:
            return
        if self._process.poll() is None:
            with contextlib.suppress(OSError):  # one that does not read has enough to read
                os.write(self._process.stdin.fileno(), b".")
        elif time.monotonic() - self._started >= AGAIN_SECONDS:
            text = f"the process that watches ended with {self._process.returncode}; another one starts"
            self._log.write("error", "watch", text=text)
            self._end_process()
            self._start(self._loaded)

    def _hear(self, descriptor: int) -> None:
        """Take what the process says, line by line."""
        octets = os.read(descriptor, READ_OCTETS)
        if not octets:
            self._loop.remove_reader(descriptor)
        *lines, self._rest = (self._rest + octets).split(b"\n")
        for line in lines:
            self._heard(json.loads(line))

    def _end_process(self) -> None:
        process, self._process, self._rest = self._process, None, b""
        if process is not None and process.stdin is not None and process.stdout is not None:
            self._loop.remove_reader(process.stdout.fileno())
            process.stdout.close()
            process.kill()  # it only reads, so nothing is lost; and the loop must not wait for it
            process.stdin.close()
            process.wait()


def _bound_to(endpoint: Endpoint) -> _Bound:
    """A socket that listens. Raises ListenFailed."""
    try:
        if endpoint.path:
            sock = unix_socket(endpoint)
            sock.listen(BACKLOG)
        else:
            family = socket.AF_INET6 if ":" in endpoint.host else socket.AF_INET
            sock = socket.create_server((endpoint.host, endpoint.port), family=family, backlog=BACKLOG)
    except OSError as error:
        raise listen_failed(NAME, endpoint, error) from error
    return _Bound(endpoint, sock)
