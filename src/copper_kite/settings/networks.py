"""Which networks an address is in."""

from __future__ import annotations

import ipaddress
from collections.abc import Sequence

__all__ = ["is_within"]


def is_within(address: str, networks: Sequence[ipaddress.IPv4Network | ipaddress.IPv6Network]) -> bool:
    """Whether an address is in one of the networks; an IPv4 address in IPv6 form counts as what it is."""
    client = ipaddress.ip_address(address.partition("%")[0])
    mapped = getattr(client, "ipv4_mapped", None)
    return any((mapped or client) in network for network in networks)
