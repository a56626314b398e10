"""The short form of `python -m tests.hostile.servers`: three hosts, one queue, and everything that can go wrong."""

from __future__ import annotations

import asyncio

from tests.hostile.servers import rounds


def test_whatever_befalls_servers_and_database_what_was_acknowledged_is_relayed() -> None:
    outcome = asyncio.run(rounds(rate=60.0, seconds=14.0, lease=2.0))
    print(outcome)
    assert not outcome.lost and len(outcome.acknowledged) > 100, str(outcome)
    assert outcome.extra <= outcome.bound, str(outcome)
    assert not outcome.sent_while_cut, str(outcome)
    assert len(outcome.events) == 8 and len(outcome.by_server) == 3
