"""The hourly counts, counted again from the journal of the shared database."""

from __future__ import annotations

from collections.abc import Iterator

from copper_kite.store.model import HourlyCount
from copper_kite.store.postgres.link import Link
from copper_kite.store.shared.counting import HOUR
from copper_kite.store.shared.counting import recount as recounted
from copper_kite.words import Event

__all__ = ["recount"]


def recount(link: Link, since: int, until: int) -> Iterator[HourlyCount]:
    """The counts of the hours from `since` to before `until`, made again from messages, attempts and entries."""
    times = {"since": since * HOUR, "until": until * HOUR}
    refusals = link.each(_REFUSALS, {**times, "event": Event.REFUSED.value})
    ordered = link.rows(_ORDERED, (Event.ORDERED.value,))
    return recounted(link.each(_ACCEPTED, times), link.each(_ATTEMPTS, times), refusals, ordered)


_WHO = """coalesce(nullif(m."user", ''), m.client)"""
_ORDERED = "SELECT message, facts FROM journal WHERE event = %s AND message IS NOT NULL"
_ACCEPTED = (
    f"SELECT m.id, r.number, m.arrived, m.size, {_WHO}, r.address FROM message m JOIN recipient r ON r.message = m.id"
    " WHERE m.arrived >= %(since)s AND m.arrived < %(until)s AND m.listener <> ''"
)
_ATTEMPTS = (
    f"SELECT a.at, a.seconds, a.connector, a.next_hop, a.cause, a.facts, m.arrived, m.size, {_WHO}"
    " FROM attempt a JOIN message m ON m.id = a.message WHERE a.at >= %(since)s AND a.at < %(until)s"
)
_REFUSALS = "SELECT at, facts FROM journal WHERE at >= %(since)s AND at < %(until)s AND event = %(event)s"
