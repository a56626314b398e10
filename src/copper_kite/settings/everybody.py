"""Which networks are so wide that to let them in is to let everybody in."""

from __future__ import annotations

from ipaddress import IPv4Network, IPv6Network

__all__ = ["is_everybody"]

WIDEST = {4: 8, 6: 16}  # bits: a wider network belongs to nobody in particular


def is_everybody(network: IPv4Network | IPv6Network) -> bool:
    """Whether it holds a good part of the Internet."""
    return network.prefixlen < WIDEST[network.version] and not network.is_private and not network.is_loopback
