"""Ports for servers of a run."""

from __future__ import annotations

import socket

__all__ = ["free_port"]


def free_port() -> int:
    """A port of 127.0.0.1 that nobody listens on now."""
    with socket.socket() as sock:
        sock.bind(("127.0.0.1", 0))
        return int(sock.getsockname()[1])
