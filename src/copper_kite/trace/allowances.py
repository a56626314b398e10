"""How much of their allowances connectors have used."""

from __future__ import annotations

from collections.abc import Iterable
from typing import NamedTuple

from copper_kite.settings import Allowance, Connector
from copper_kite.store import Reader

__all__ = ["UsedAllowance", "used_allowances"]


class UsedAllowance(NamedTuple):
    """An allowance of a connector, and the recipients that were relayed in its present period."""

    connector: str
    allowance: Allowance
    used: int


def used_allowances(reader: Reader, connectors: Iterable[Connector], now: float) -> list[UsedAllowance]:
    """Each allowance of these connectors; `now` in seconds since 1970. Raises StoreError."""
    return [
        UsedAllowance(connector.name, allowance, reader.relayed_since(connector.name, allowance.window(now)[0]))
        for connector in connectors
        for allowance in connector.allowance
    ]
