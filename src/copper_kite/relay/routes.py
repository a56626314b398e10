"""The routing rules, recorded whenever they change, so that traces explain a choice by the rules of its time."""

from __future__ import annotations

from collections.abc import Sequence

from copper_kite.routing import Carrier
from copper_kite.store import JournalEntry, WriteEntry
from copper_kite.words import Event

__all__ = ["routes_noted"]


def routes_noted(connectors: Sequence[Carrier], known: Sequence[JournalEntry], now: float) -> list[WriteEntry]:
    """The operation that records the routes, unless the last of `known` is the same. `now` in seconds since 1970."""
    rules = [
        [connector.name, connector.enabled, connector.preference, list(connector.recipients), list(connector.senders)]
        for connector in connectors
    ]
    if known and known[-1].facts["connectors"] == rules:
        return []
    return [WriteEntry(JournalEntry(at=now, event=Event.ROUTES, facts={"connectors": rules}))]
