"""The hourly counts, counted again from the journal of the shared database."""

from __future__ import annotations

import json
from collections.abc import Iterator

from copper_kite.store.model import HourlyCount
from copper_kite.store.postgres.link import Link
from copper_kite.store.shared.counting import HOUR, Counts, add_to, count_refusal, count_results, domain_of
from copper_kite.words import Event

__all__ = ["recount"]


def recount(link: Link, since: int, until: int) -> Iterator[HourlyCount]:
    """The counts of the hours from `since` to before `until`, made again from messages, attempts and entries."""
    counts: Counts = {}
    times = {"since": since * HOUR, "until": until * HOUR}
    added = {
        (message, number)
        for message, facts in link.rows(_ORDERED, (Event.ORDERED.value,))
        for number in json.loads(facts).get("added", ())
    }
    for id, number, at, size, who, address in link.each(_ACCEPTED, times):
        if (id, number) not in added:  # one that an administrator added was not submitted
            add_to(counts, (int(at) // HOUR, "accepted", "", "", who, domain_of(address), "", -1), size)
    for at, seconds, connector, next_hop, cause, facts, arrived, size, who in link.each(_ATTEMPTS, times):
        results = json.loads(facts)["results"]
        count_results(counts, (at, seconds, connector, next_hop, cause), results, (arrived, size, who))
    for at, facts in link.each(_REFUSALS, {**times, "event": Event.REFUSED.value}):
        count_refusal(counts, at, json.loads(facts))
    return (HourlyCount(*key, *of) for key, of in counts.items())


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
