"""The peer of a connection."""

from __future__ import annotations

import asyncio
import pwd
import socket
import struct
from dataclasses import dataclass

__all__ = ["Peer", "peer_of", "user_of"]


@dataclass(frozen=True, slots=True)
class Peer:
    """The client at the other end: an IP address, or a local user on a Unix socket."""

    address: str
    user: str = ""

    @property
    def literal(self) -> str:
        """The address as it stands in square brackets (RFC 5321 4.1.3); empty for a Unix socket."""
        return f"IPv6:{self.address}" if ":" in self.address else self.address

    def __str__(self) -> str:
        return self.address or f"local user {self.user}"


def user_of(uid: int) -> str:
    """The name of a local user, also of one without an entry."""
    try:
        return pwd.getpwuid(uid).pw_name
    except KeyError:
        return f"uid {uid}"


def peer_of(transport: asyncio.BaseTransport) -> Peer:
    """The client of a connection. Raises OSError when it is gone already."""
    known = transport.get_extra_info("peer")
    if isinstance(known, Peer):  # it is in this process
        return known
    sock = transport.get_extra_info("socket")
    if sock is not None and sock.family == socket.AF_UNIX:
        _, uid, _ = struct.unpack("3i", sock.getsockopt(socket.SOL_SOCKET, socket.SO_PEERCRED, struct.calcsize("3i")))
        return Peer("", user_of(uid))
    name = transport.get_extra_info("peername")
    if not name:
        raise ConnectionResetError("the client is gone")
    return Peer(name[0])
