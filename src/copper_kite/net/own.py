"""Whether an address is this machine's own, and whether this server listens there (RFC 5321 5.1: loops)."""

from __future__ import annotations

import ipaddress
import socket
from collections.abc import Iterable

from copper_kite.settings import Endpoint

__all__ = ["listens_at"]


def listens_at(address: str, port: int, listening: Iterable[Endpoint]) -> bool:
    """Whether a connection to `address` and `port` would come to one of the endpoints we listen at."""
    meant = ipaddress.ip_address(address.partition("%")[0])
    for endpoint in listening:
        if endpoint.path or endpoint.port != port:
            continue
        bound = ipaddress.ip_address(endpoint.host)
        if bound == meant or (bound.is_unspecified and bound.version == meant.version and _is_ours(address)):
            return True
    return False


def _is_ours(address: str) -> bool:
    """Whether an interface of this machine has the address: then, and only then, a socket can be bound to it."""
    family = socket.AF_INET6 if ":" in address else socket.AF_INET
    with socket.socket(family, socket.SOCK_DGRAM) as sock:
        try:
            sock.bind((address, 0))
        except OSError:
            return False
    return True
