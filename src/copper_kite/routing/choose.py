"""Which connector carries a recipient. A pure function of the configuration and the address; it says why."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from copper_kite.settings.model import Connector
from copper_kite.smtp.grammar import split_mailbox

__all__ = ["Choice", "choose"]


@dataclass(frozen=True, slots=True)
class Choice:
    """The connector, or None, and one reason for each connector: (name, why or why not)."""

    connector: Connector | None
    reasons: tuple[tuple[str, str], ...]


def _closeness(pattern: str, recipient: str) -> tuple[int, int] | None:
    """How closely a pattern fits, greater is closer: an address, a domain, a longer `*.domain`, `*`; None: not at all.

    Domains compare without case; local parts with it (RFC 5321 2.4).
    """
    local, domain = split_mailbox(recipient)
    domain = domain.lower()
    if pattern == "*":
        return 0, 0
    if "@" in pattern:
        wanted_local, wanted_domain = split_mailbox(pattern)
        return (3, 0) if (wanted_local, wanted_domain.lower()) == (local, domain) else None
    if pattern.startswith("*."):
        suffix = pattern[1:].lower()
        return (1, len(suffix)) if domain.endswith(suffix) else None
    return (2, 0) if pattern.lower() == domain else None


def choose(connectors: Sequence[Connector], recipient: str) -> Choice:
    """The connector with the closest pattern; among equals the lower preference, then the earlier in the file."""
    found: list[tuple[tuple[int, int], int, int, str]] = []
    for place, connector in enumerate(connectors):
        fits = [(close, pattern) for pattern in connector.recipients if (close := _closeness(pattern, recipient))]
        if fits:
            (kind, length), pattern = max(fits)
            found.append(((-kind, -length), connector.preference, place, pattern))
    found.sort()
    if not found:
        return Choice(None, tuple((connector.name, "no pattern fits") for connector in connectors))
    best = found[0]
    reasons = {place: f"{pattern} fits less closely" for _, _, place, pattern in found}
    reasons |= {place: "comes after by preference or order" for close, _, place, _ in found if close == best[0]}
    reasons[best[2]] = f"{best[3]} fits best"
    return Choice(
        connectors[best[2]],
        tuple((connector.name, reasons.get(place, "no pattern fits")) for place, connector in enumerate(connectors)),
    )
