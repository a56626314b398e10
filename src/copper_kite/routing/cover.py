"""The coverage of a set of connectors: which one carries the mail of a pattern, and which ones tie."""

from __future__ import annotations

from collections.abc import Sequence

from copper_kite.routing.choose import choose_connector
from copper_kite.settings import Connector

__all__ = ["everything_is_carried", "sample", "takers", "ties"]


def sample(pattern: str) -> str:
    """An address that the pattern fits, and no closer one fits by chance."""
    if pattern == "*":
        return "somebody@example"
    if pattern.startswith("*."):
        return f"somebody@any{pattern[1:]}"
    return pattern if "@" in pattern else f"somebody@{pattern}"


def takers(connectors: Sequence[Connector], name: str) -> list[tuple[str, str | None]]:
    """For each pattern of the connector `name`: the connector that would carry its mail instead, None for none."""
    gone = next(connector for connector in connectors if connector.name == name)
    left = [connector for connector in connectors if connector.name != name]
    results = []
    for pattern in gone.recipients:
        other = choose_connector(left, sample(pattern)).connector
        results.append((pattern, other.name if other else None))
    return results


def everything_is_carried(connectors: Sequence[Connector]) -> bool:
    """Whether some enabled connector takes whatever no other takes."""
    return choose_connector(connectors, sample("*")).connector is not None


def ties(connectors: Sequence[Connector]) -> list[tuple[Connector, int, str]]:
    """Enabled connectors that never get a pattern's mail: the first one with it and the same preference, the number of
    the later one, and the pattern. Only their order in the file decides. One for each later one."""
    result, first = [], dict[tuple[str, int, str], Connector]()
    for number, connector in enumerate(connectors):
        if not connector.enabled:
            continue
        patterns = sorted({pattern.lower() for pattern in connector.recipients})
        keys = [(pattern, connector.preference, sender) for pattern in patterns for sender in connector.senders]
        tie = next((key for key in keys if key in first), None)
        if tie is not None:
            result.append((first[tie], number, tie[0]))
        for key in keys:
            first.setdefault(key, connector)
    return result
