"""Which connector carries a recipient. A pure function of the configuration and the address; it says why."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Generic, Protocol, TypeVar

from copper_kite.smtp import split_mailbox

__all__ = ["Carrier", "Choice", "Router", "any_fits", "choose_connector"]

MAX_REMEMBERED = 10_000  # domains


class Carrier(Protocol):
    """The part of a connector that decides which recipients it carries."""

    @property
    def name(self) -> str: ...
    @property
    def enabled(self) -> bool: ...
    @property
    def recipients(self) -> Sequence[str]: ...
    @property
    def senders(self) -> Sequence[str]: ...
    @property
    def preference(self) -> int: ...


C = TypeVar("C", bound=Carrier)


@dataclass(slots=True)
class Choice(Generic[C]):
    """The connector, or None; `reasons` tells why, and why not the others."""

    connector: C | None
    recipient: str
    sender: str
    connectors: Sequence[C]

    @property
    def reasons(self) -> list[tuple[str, str]]:
        """The reason for or against each connector, in the file's order: (name, reason)."""
        ranks = [
            _rank(connector, place, self.recipient, self.sender) for place, connector in enumerate(self.connectors)
        ]
        best = min((rank for rank in ranks if rank is not None), default=None)
        return [
            (connector.name, _reason(rank, best, connector, self.recipient) if connector.enabled else "is disabled")
            for connector, rank in zip(self.connectors, ranks, strict=True)
        ]


_Closeness = tuple[int, int]
# Lower is better: how closely the recipient's pattern fits, negated, and the sender's; preference; place in the file.
_Rank = tuple[_Closeness, _Closeness, int, int]


def _rank(connector: Carrier, place: int, recipient: str, sender: str) -> _Rank | None:
    if not connector.enabled:
        return None
    fit, from_whom = _closest(connector.recipients, recipient), _closest(connector.senders, sender)
    if fit is None or from_whom is None:
        return None
    return (-fit[0][0], -fit[0][1]), (-from_whom[0][0], -from_whom[0][1]), connector.preference, place


def _closest(patterns: Sequence[str], address: str) -> tuple[_Closeness, str] | None:
    """The pattern that fits best, with how closely; None when none does."""
    return max(((close, pattern) for pattern in patterns if (close := _closeness(pattern, address))), default=None)


def any_fits(patterns: Sequence[str], address: str) -> bool:
    """Whether one of the patterns fits."""
    return _closest(patterns, address) is not None


def _reason(rank: _Rank | None, best: _Rank | None, connector: Carrier, recipient: str) -> str:
    fit = _closest(connector.recipients, recipient)
    if fit is None:
        return "no recipient pattern fits"
    if rank is None or best is None:
        return f"{fit[1]} fits, but the sender does not"
    if rank == best:
        return f"{fit[1]} fits best"
    if rank[0] != best[0]:
        return f"{fit[1]} fits less closely"
    if rank[1] != best[1]:
        return "the sender fits less closely"
    return "comes after by preference" if rank[2] != best[2] else "comes later in the file"


def _closeness(pattern: str, recipient: str) -> _Closeness | None:
    """The rank of a pattern for an address, greater is closer: an address, a domain, a longer `*.domain`, `*`; None: no
    match.

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


def choose_connector(connectors: Sequence[C], recipient: str, sender: str = "") -> Choice[C]:
    """The connector with the closest recipient pattern; among equals the closest sender pattern, then the lower
    preference, then the earlier in the file. `sender` is the reverse-path, which only `*` fits when it is empty.
    """
    best: _Rank | None = None
    chosen: C | None = None
    for place, connector in enumerate(connectors):
        rank = _rank(connector, place, recipient, sender)
        if rank is not None and (best is None or rank < best):
            best, chosen = rank, connector
    return Choice(chosen, recipient, sender, connectors)


class Router:
    """`choose` for many recipients: what it found for a domain is remembered, where only the domain counts."""

    def __init__(self, connectors: Sequence[Carrier]) -> None:
        self._connectors = connectors
        self._by_address = any("@" in pattern for connector in connectors for pattern in connector.recipients)
        self._by_sender = any(connector.senders != ["*"] for connector in connectors)
        self._known: dict[tuple[str, str], str] = {}

    def carrier(self, recipient: str, sender: str) -> str:
        """The name of the connector that carries `recipient`; empty when none does."""
        known_by = recipient if self._by_address else recipient[recipient.rfind("@") + 1 :]
        key = (known_by, sender if self._by_sender else "")
        name = self._known.get(key)
        if name is None:
            connector = choose_connector(self._connectors, recipient, sender).connector
            name = connector.name if connector else ""
            if len(self._known) >= MAX_REMEMBERED:
                self._known.clear()
            self._known[key] = name
        return name
