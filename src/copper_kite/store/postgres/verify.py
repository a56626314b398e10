"""Verification of the shared queue: each portion of content against its sum, and each open message for its content."""

from __future__ import annotations

from contextlib import closing
from zlib import crc32

from copper_kite.store.health import Verified
from copper_kite.store.place import StorePlace
from copper_kite.store.postgres.link import Link
from copper_kite.store.postgres.schema import demand_schema
from copper_kite.store.postgres.selecting import OPEN_SQL

__all__ = ["verify"]


def verify(place: StorePlace) -> Verified:
    """Look at all content that is kept. Raises StoreError."""
    verified = Verified()
    with closing(Link(place, demand_schema)) as link:
        for message, portion, total, octets in link.each("SELECT message, portion, sum, octets FROM content"):
            verified.portions += 1
            verified.octets += len(octets)
            if crc32(octets) != total:
                verified.messages.setdefault(message, f"portion {portion} is not what was written")
        without = (
            f"SELECT DISTINCT message FROM recipient r WHERE {OPEN_SQL}"
            " AND NOT EXISTS (SELECT 1 FROM content c WHERE c.message = r.message)"
        )
        for (message,) in link.rows(without):
            verified.messages.setdefault(message, "its content is not there")
    return verified
