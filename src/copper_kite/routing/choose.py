"""Which connector carries a recipient. A pure function of the configuration and the address; it says why."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from copper_kite.settings.model import Connector
from copper_kite.smtp.grammar import split_mailbox

__all__ = ["Choice", "Router", "choose"]

MAX_REMEMBERED = 10_000  # domains


@dataclass(slots=True)
class Choice:
    """The connector, or None; `reasons` tells why, and why not the others."""

    connector: Connector | None
    recipient: str
    connectors: Sequence[Connector]

    @property
    def reasons(self) -> list[tuple[str, str]]:
        """One reason for each connector, in the file's order: (name, why or why not)."""
        ranks = [_rank(connector, place, self.recipient) for place, connector in enumerate(self.connectors)]
        best = min((rank for rank in ranks if rank is not None), default=None)
        return [
            (connector.name, _reason(rank, best) if connector.enabled else "is disabled")
            for connector, rank in zip(self.connectors, ranks, strict=True)
        ]


# Lower is better: (how closely the pattern fits, negated), preference, place in the file, and the pattern.
_Rank = tuple[tuple[int, int], int, int, str]


def _rank(connector: Connector, place: int, recipient: str) -> _Rank | None:
    if not connector.enabled:
        return None
    fits = [(close, pattern) for pattern in connector.recipients if (close := _closeness(pattern, recipient))]
    if not fits:
        return None
    (kind, length), pattern = max(fits)
    return (-kind, -length), connector.preference, place, pattern


def _reason(rank: _Rank | None, best: _Rank | None) -> str:
    if rank is None or best is None:
        return "no pattern fits"
    if rank == best:
        return f"{rank[3]} fits best"
    return f"{rank[3]} fits less closely" if rank[0] != best[0] else "comes after by preference or order"


def _closeness(pattern: str, recipient: str) -> tuple[int, int] | None:
    """How closely a pattern fits, greater is closer: an address, a domain, a longer `*.domain`, `*`; None: not at all.

    Domains compare without case; local parts with it (RFC 5321 2.4).
    """
    if pattern == "*":
        return 0, 0
    local, domain = split_mailbox(recipient)
    domain = domain.lower()
    if "@" in pattern:
        wanted_local, wanted_domain = split_mailbox(pattern)
        return (3, 0) if (wanted_local, wanted_domain.lower()) == (local, domain) else None
    if pattern.startswith("*."):
        suffix = pattern[1:].lower()
        return (1, len(suffix)) if domain.endswith(suffix) else None
    return (2, 0) if pattern.lower() == domain else None


def choose(connectors: Sequence[Connector], recipient: str) -> Choice:
    """The connector with the closest pattern; among equals the lower preference, then the earlier in the file."""
    best, chosen = None, None
    for place, connector in enumerate(connectors):
        rank = _rank(connector, place, recipient)
        if rank is not None and (best is None or rank < best):
            best, chosen = rank, connector
    return Choice(chosen, recipient, connectors)


class Router:
    """`choose` for many recipients: what it found for a domain is remembered, where only the domain counts."""

    def __init__(self, connectors: Sequence[Connector]) -> None:
        self._connectors = connectors
        self._by_address = any("@" in pattern for connector in connectors for pattern in connector.recipients)
        self._known: dict[str, str] = {}

    def carrier(self, recipient: str) -> str:
        """The name of the connector that carries `recipient`; empty when none does."""
        domain = recipient if self._by_address else recipient[recipient.rfind("@") + 1 :]
        name = self._known.get(domain)
        if name is None:
            connector = choose(self._connectors, recipient).connector
            name = connector.name if connector else ""
            if len(self._known) >= MAX_REMEMBERED:
                self._known.clear()
            self._known[domain] = name
        return name
