"""Whether an address is our own, so that mail for ourselves is seen as a loop (RFC 5321 5.1)."""

from __future__ import annotations

import pytest

from copper_kite.net.own import listens_at
from copper_kite.settings.units import parse_endpoint


@pytest.mark.parametrize(
    ("address", "listening", "ours"),
    [
        ("192.0.2.7", ["192.0.2.7:25"], True),
        ("192.0.2.7", ["192.0.2.8:25"], False),
        ("192.0.2.7", ["192.0.2.7:587"], False),  # another port is another server
        ("192.0.2.7", ["unix:/run/submit.sock"], False),
        ("2001:db8::7", ["[2001:db8:0:0::7]:25"], True),
        ("fe80::7%eth0", ["[fe80::7]:25"], True),
        ("127.0.0.1", ["0.0.0.0:25"], True),  # all addresses, and this is one of them
        ("192.0.2.7", ["0.0.0.0:25"], False),  # it is no interface's of this machine
        ("192.0.2.7", ["[::]:25"], False),
        ("127.0.0.1", ["192.0.2.8:25", "unix:/run/x", "0.0.0.0:25"], True),
        ("127.0.0.1", [], False),
    ],
)
def test_where_we_listen(address: str, listening: list[str], ours: bool) -> None:
    endpoints = [parse_endpoint(text, default_port=25) for text in listening]
    assert listens_at(address, 25, endpoints) is ours
