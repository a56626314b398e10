"""What a set of connectors carries, seen from its patterns: who would carry the mail of a pattern, and who ties."""

from __future__ import annotations

from collections.abc import Sequence

from copper_kite.routing.choose import choose
from copper_kite.settings.model import Connector

__all__ = ["everything_is_carried", "sample", "takers", "ties"]


def sample(pattern: str) -> str:
    """An address that the pattern fits, and no closer one fits by chance."""
    if pattern == "*":
        return "somebody@example"
    if pattern.startswith("*."):
        return f"somebody@any{pattern[1:]}"
    return pattern if "@" in pattern else f"somebody@{pattern}"


def takers(connectors: Sequence[Connector], name: str) -> list[tuple[str, str | None]]:
    """For each pattern of the connector `name`: who would carry its mail without that one, None for nobody."""
    gone = next(connector for connector in connectors if connector.name == name)
    left = [connector for connector in connectors if connector.name != name]
    found = []
    for pattern in gone.recipients:
        other = choose(left, sample(pattern)).connector
        found.append((pattern, other.name if other else None))
    return found


def everything_is_carried(connectors: Sequence[Connector]) -> bool:
    """Whether some enabled connector takes whatever no other takes."""
    return choose(connectors, sample("*")).connector is not None


def ties(connectors: Sequence[Connector]) -> list[tuple[Connector, Connector, str]]:
    """Pairs of enabled connectors with the same pattern and preference: only their order in the file decides."""
    found = []
    for number, later in enumerate(connectors):
        for earlier in connectors[:number]:
            shared = {p.lower() for p in earlier.recipients} & {p.lower() for p in later.recipients}
            alike = earlier.preference == later.preference and set(earlier.senders) & set(later.senders)
            if shared and alike and earlier.enabled and later.enabled:
                found.append((earlier, later, min(shared)))
    return found
