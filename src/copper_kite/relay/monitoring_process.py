"""The monitoring process (`copper_kite.monitoring.server`): started, restarted when it dies, and stopped.

It answers monitoring programs, evaluates alarms, and makes the reports that are due.
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

__all__ = ["MonitoringProcess"]

HEARTBEAT_SECONDS = 1.0  # between heartbeats
RESTART_SECONDS = 10.0  # between starts, when the process dies
BACKLOG = 32
READ_OCTETS = 65536
NAME = "[metrics]"  # in errors, where a listener has its name


class _Bound(NamedTuple):
    """An address that this server listens on."""

    endpoint: Endpoint
    sock: socket.socket

    def close(self) -> None:
        self.sock.close()
        if self.endpoint.path:
            Path(self.endpoint.path).unlink(missing_ok=True)


class MonitoringProcess:
    """Binds the socket and runs one process that serves it. `on_message` gets each line of its output."""

    def __init__(self, supervisor: Supervisor, log: Log, on_message: Callable[[dict[str, Any]], None]) -> None:
        self._log = log
        self._on_message = on_message
        self._loop = asyncio.get_running_loop()
        self._rest = b""
        self._bound: _Bound | None = None
        self._next: _Bound | None = None
        self._process: subprocess.Popen[bytes] | None = None
        self._loaded: Loaded | None = None
        self._started = 0.0
        self._timer = supervisor.every(HEARTBEAT_SECONDS, self._heartbeat)

    @property
    def pid(self) -> int | None:
        """Of the running process."""
        return None if self._process is None else self._process.pid

    def bind(self, loaded: Loaded) -> None:
        """Bind the address that `loaded` names, beside the one in use; `take_up` or `unbind` follows.

        Raises ListenFailed.
        """
        endpoint = loaded.settings.metrics.bind
        if endpoint is not None and (self._bound is None or endpoint != self._bound.endpoint):
            self._next = _bound_to(endpoint)

    def unbind(self) -> None:
        """Close what `bind` has bound."""
        if self._next is not None:
            self._next.close()
        self._next = None

    def take_up(self, loaded: Loaded) -> None:
        """Use the address that `bind` has bound, and restart the process with `loaded`."""
        if self._bound is not None and loaded.settings.metrics.bind != self._bound.endpoint:
            self._bound.close()
            self._bound = None
        self._bound, self._next = self._next or self._bound, None
        self._loaded = loaded
        self._end_process()
        self._start(loaded)

    def stop(self) -> None:
        """Stop the process and close the address."""
        self._timer.cancel()
        self.unbind()
        self._end_process()
        if self._bound is not None:
            self._bound.close()

    def _start(self, loaded: Loaded) -> None:
        """Start the process if the configuration needs it."""
        settings = loaded.settings
        if (
            self._bound is None
            and not settings.report.to
            and not settings.tls_reports.send
            and not any(alarm.enabled for alarm in settings.alarm)
        ):
            return
        descriptors = [self._bound.sock.fileno()] if self._bound is not None else []
        words = [sys.executable, "-P", "-m", "copper_kite.monitoring.server", *map(str, descriptors)]
        self._process = subprocess.Popen(
            words, stdin=subprocess.PIPE, stdout=subprocess.PIPE, pass_fds=descriptors, bufsize=0
        )
        assert self._process.stdout is not None
        self._loop.add_reader(self._process.stdout.fileno(), self._read_output, self._process.stdout.fileno())
        self._started = time.monotonic()
        start = {
            "path": str(loaded.path),
            "source": loaded.source,
            "data": str(loaded.data),
            "server_name": loaded.server_name,
        }
        assert self._process.stdin is not None
        with contextlib.suppress(BrokenPipeError):
            self._process.stdin.write(json.dumps(start).encode() + b"\n")
            os.set_blocking(self._process.stdin.fileno(), False)

    def _heartbeat(self) -> None:
        """Send a heartbeat to the process; restart it if it has died."""
        if self._process is None or self._process.stdin is None or self._loaded is None:
            return
        if self._process.poll() is None:
            with contextlib.suppress(OSError):  # the pipe is full: it has not read for hours
                os.write(self._process.stdin.fileno(), b".")
        elif time.monotonic() - self._started >= RESTART_SECONDS:
            text = f"the monitoring process ended with {self._process.returncode}; another one starts"
            self._log.write("error", "monitoring", text=text)
            self._end_process()
            self._start(self._loaded)

    def _read_output(self, descriptor: int) -> None:
        """Read lines of JSON from the process."""
        octets = os.read(descriptor, READ_OCTETS)
        if not octets:
            self._loop.remove_reader(descriptor)
        *lines, self._rest = (self._rest + octets).split(b"\n")
        for line in lines:
            self._on_message(json.loads(line))

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
