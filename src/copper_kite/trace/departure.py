"""Whether a received message left this server through the connector that the configuration chooses for it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from copper_kite.routing import choose_connector
from copper_kite.settings import Connector
from copper_kite.store import Recipient
from copper_kite.trace.way import Step

__all__ = ["Departure", "find_departure", "own_step"]


@dataclass(frozen=True, slots=True)
class Departure:
    """The departure of a message: `used` is empty where the queue no longer has it; `taken_by` is the next server's own
    name, empty when there is none."""

    id: str
    recipient: str
    expected: str
    used: str
    next_hop: str
    taken_by: str
    secure: bool

    @property
    def wrong(self) -> bool:
        """Whether it went through another connector than the configuration has for it now."""
        return bool(self.used) and self.used != self.expected


def own_step(steps: Sequence[Step], server: str) -> int | None:
    """The place of the hop at which this server took the message; the last one, if it passed more than once."""
    return next((n for n in reversed(range(len(steps))) if steps[n].hop.receiver.lower() == server.lower()), None)


def find_departure(
    steps: Sequence[Step], place: int, connectors: Sequence[Connector], sender: str, recipients: Sequence[Recipient]
) -> Departure | None:
    """How the message left after the hop at `place`; `recipients` are its rows in the queue. None when unknown."""
    hop, after = steps[place].hop, steps[place + 1].hop if place + 1 < len(steps) else None
    to = hop.recipient or (after.recipient if after else "") or (recipients[0].address if recipients else "")
    if not to:
        return None
    known = next((recipient for recipient in recipients if recipient.address.lower() == to.lower()), None)
    chosen = choose_connector(connectors, to, sender).connector
    return Departure(
        id=hop.id,
        recipient=to,
        expected=chosen.name if chosen else "",
        used=known.connector if known else "",
        next_hop=known.next_hop if known else chosen.where if chosen else "",
        taken_by=after.receiver if after else "",
        secure=bool(after and after.secure),
    )
