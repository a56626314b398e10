"""The settings of a lane, and the numbers of its sessions."""

from __future__ import annotations

from typing import NamedTuple

from copper_kite.relay.job import SenderRule
from copper_kite.relay.outgoing import NextHop
from copper_kite.relay.signatures import Signatures
from copper_kite.settings import Connector, Pace
from copper_kite.smtp import Capabilities

__all__ = ["LaneSessions", "LaneSettings"]


class LaneSettings(NamedTuple):
    """The settings of a connector that a lane uses, except its next hops."""

    sessions: int
    pace: Pace | None
    long_lines: str
    spread: bool
    sender_rule: SenderRule | None
    sign: bool | str

    @classmethod
    def of(cls, connector: Connector) -> LaneSettings:
        """The settings of a connector."""
        rule = SenderRule(connector.sender, tuple(connector.sender_keeps)) if connector.sender else None
        return cls(connector.sessions, connector.pace, connector.long_lines, connector.spread, rule, connector.sign)

    def next_hop(self, capabilities: Capabilities, proven: bool, signatures: Signatures) -> NextHop:
        """The next hop as messages are prepared for it."""
        by = signatures if self.sign else None
        return NextHop(capabilities, proven, self.long_lines, self.sender_rule, by, self.sign is True)


class LaneSessions(NamedTuple):
    """How many sessions a lane has open, how many it may have now, and how many its settings allow."""

    open: int
    allowed: int
    most: int
