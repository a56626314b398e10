"""Hourly counts, written in the transactions that they count; and counted again from the journal."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator

from copper_kite.store.model import HourlyCount
from copper_kite.store.shared.counting import HOUR, Counts, KnownKeys
from copper_kite.store.shared.counting import recount as recounted
from copper_kite.words import Event

__all__ = ["add_counts", "message_counted", "recount"]

_known = KnownKeys()


def add_counts(connection: sqlite3.Connection, counts: Counts) -> None:
    """Write what a commit has counted."""
    for hour in {key[0] for key in counts}:
        if not _known.has(hour):
            _known.take_up(hour, connection.execute(_KEYS, (hour,)))
    if counts:
        connection.executemany(_ADD, [(*_known.bounded(key), *of) for key, of in counts.items()])


def recount(connection: sqlite3.Connection, since: int, until: int) -> Iterator[HourlyCount]:
    """The same counts, made again from the journal of the hours from `since` to before `until`."""
    times = since * HOUR, until * HOUR
    query = connection.execute
    refusals = query(_REFUSALS, (*times, Event.REFUSED.value))
    return recounted(query(_ACCEPTED, times), query(_ATTEMPTS, times), refusals, query(_ORDERED, (_ORDERED_EVENT,)))


def message_counted(connection: sqlite3.Connection, id: int) -> tuple[float, int, str] | None:
    """When a message arrived, its size, and who submitted it."""
    result: tuple[float, int, str] | None = connection.execute(_MESSAGE, (id,)).fetchone()
    return result


_ADD = (
    "INSERT INTO hourly VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)"
    " ON CONFLICT (hour, outcome, connector, next_hop, who, domain, reason, delay)"
    " DO UPDATE SET recipients = recipients + excluded.recipients, octets = octets + excluded.octets"
)
_ORDERED = "SELECT message, facts FROM journal WHERE event = ? AND message IS NOT NULL"
_ORDERED_EVENT = Event.ORDERED.value
_KEYS = "SELECT hour, outcome, connector, next_hop, who, domain, reason, delay FROM hourly WHERE hour = ?"
_WHO = "coalesce(nullif(m.user, ''), m.client)"
_ACCEPTED = (
    f"SELECT m.id, r.number, m.arrived, m.size, {_WHO}, r.address FROM message m JOIN recipient r ON r.message = m.id"
    " WHERE m.arrived >= ?1 AND m.arrived < ?2 AND m.listener != ''"
    f" UNION ALL SELECT m.id, 1, m.arrived, m.size, {_WHO}, m.address FROM compact m"
    " WHERE m.arrived >= ?1 AND m.arrived < ?2 AND m.listener != ''"
)
_ATTEMPTS = (
    f"SELECT a.at, a.seconds, a.connector, a.next_hop, a.cause, a.facts, m.arrived, m.size, {_WHO}"
    " FROM attempt a JOIN message m ON m.id = a.message WHERE a.at >= ?1 AND a.at < ?2"
)
_MESSAGE = f"SELECT m.arrived, m.size, {_WHO} FROM message m WHERE m.id = ?"
_REFUSALS = "SELECT at, facts FROM journal WHERE at >= ?1 AND at < ?2 AND event = ?3"
