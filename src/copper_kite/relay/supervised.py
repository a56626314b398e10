"""Living under a service manager, by the protocol that systemd documents: sockets handed over, and word of our state.

See sd_listen_fds(3) and sd_notify(3). Without a manager, none of it does anything.
"""

from __future__ import annotations

import contextlib
import os
import socket
import time

from copper_kite.settings import Endpoint

__all__ = ["handed_over", "tell_manager", "watch_interval"]

PATIENCE = 0.2  # seconds for a word to the manager
FIRST = 3  # the first descriptor handed over


def handed_over() -> dict[Endpoint, socket.socket]:
    """The listening sockets that the manager opened for this process, by their addresses; taken once."""
    if os.environ.get("LISTEN_PID") != str(os.getpid()):
        return {}
    count = int(os.environ.pop("LISTEN_FDS", "0"))
    os.environ.pop("LISTEN_PID")
    results = {}
    for descriptor in range(FIRST, FIRST + count):
        os.set_inheritable(descriptor, False)
        sock = socket.socket(fileno=descriptor)
        sock.setblocking(False)
        results[_endpoint(sock)] = sock
    return results


def _endpoint(sock: socket.socket) -> Endpoint:
    name = sock.getsockname()
    if sock.family == socket.AF_UNIX:
        return Endpoint("", 0, os.fsdecode(name))
    return Endpoint(name[0], name[1])


def watch_interval() -> float | None:
    """The seconds between keep-alive messages, half of what the service manager allows; None where it wants none."""
    if os.environ.get("WATCHDOG_PID", str(os.getpid())) != str(os.getpid()):
        return None
    allowed = os.environ.get("WATCHDOG_USEC", "")
    return int(allowed) / 2_000_000 if allowed.isdigit() and int(allowed) else None


def tell_manager(*states: str) -> None:
    """Say `READY=1`, `RELOADING=1` or `STOPPING=1` to the service manager, if it asked for notifications."""
    path = os.environ.get("NOTIFY_SOCKET", "")
    if not path:
        return
    lines = [*states, *([f"MONOTONIC_USEC={time.monotonic_ns() // 1000}"] if "RELOADING=1" in states else [])]
    address = "\0" + path[1:] if path.startswith("@") else path
    with contextlib.suppress(OSError), socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM) as sock:
        sock.settimeout(PATIENCE)  # a manager that does not listen must not keep us from our work
        sock.sendto("\n".join(lines).encode(), address)
