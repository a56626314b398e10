"""Hourly counts for reports of accepted messages and results, by connector, next hop, sender, domain and reason, in the
transactions that they count.

Each count comes from a row that the journal keeps (a message, an attempt, an entry), and its hour from that row's time:
so what the journal still has can be counted again, and must come to the same (`recount`).
"""

from __future__ import annotations

import json
import re
import sqlite3
from collections.abc import Iterable, Iterator, Sequence

from copper_kite.store.model import HourlyCount, step_of_delay
from copper_kite.words import Event, State

__all__ = [
    "HOUR",
    "Counts",
    "add_counts",
    "add_to",
    "count_refusal",
    "count_results",
    "domain_of",
    "message_counted",
    "reason_of",
    "recount",
]

HOUR = 3600  # seconds
MOST_KEYS = 300  # of an hour; then domains count as "other", and after as many more senders, next hops and reasons
OTHER, DELAY = "other", "delay"
_CODES = re.compile(r"([2-5]\d\d)(?:[ -]([245]\.\d{1,3}\.\d{1,3}))?\b")

Key = tuple[int, str, str, str, str, str, str, int]  # a HourlyCount up to its numbers
Counts = dict[Key, list[int]]  # recipients and octets

_known: dict[int, set[Key]] = {}  # the keys of the hours that this process counts in


def domain_of(address: str) -> str:
    """The domain of an address, in lower case; cut where it is longer than any real one."""
    return address[address.rfind("@") + 1 :].lower()[:255]


def reason_of(reply: str, stage: str, cause: str = "") -> str:
    """Why a recipient was put off or failed: the codes of the reply and the stage of the session, or else the cause."""
    match = _CODES.match(reply)
    return " ".join(filter(None, (*match.groups(), stage))) if match is not None else cause


def add_to(counts: Counts, key: Key, octets: int, recipients: int = 1) -> None:
    """Add to a count."""
    known = counts.get(key)
    if known is None:
        counts[key] = [recipients, octets]
    else:
        known[0] += recipients
        known[1] += octets


def add_counts(connection: sqlite3.Connection, counts: Counts) -> None:
    """Write what a commit has counted."""
    if counts:
        connection.executemany(_ADD, [(*_bounded(connection, key), *of) for key, of in counts.items()])


def _bounded(connection: sqlite3.Connection, key: Key) -> Key:
    """The key, where its hour has room for it; else the one that all others share."""
    hour = key[0]
    known = _known.get(hour)
    if known is None:
        if len(_known) > 1:  # the clock may stand at the end of an hour: the one before is still counted in
            del _known[min(_known)]
        known = _known[hour] = set(connection.execute(_KEYS, (hour,)))
    if key in known:
        return key
    if len(known) >= MOST_KEYS:
        _, outcome, connector, next_hop, who, _, reason, delay = key
        if len(known) >= 2 * MOST_KEYS:
            next_hop, who, reason = (OTHER if name else "" for name in (next_hop, who, reason))
        key = hour, outcome, connector, next_hop, who, OTHER if key[5] else "", reason, delay
    known.add(key)
    return key


def recount(connection: sqlite3.Connection, since: int, until: int) -> Iterator[HourlyCount]:
    """The same counts, made again from the journal of the hours from `since` to before `until`."""
    counts: Counts = {}
    times = since * HOUR, until * HOUR
    added = _added_later(connection)
    for id, number, at, size, who, address in connection.execute(_ACCEPTED, times):
        if (id, number) not in added:
            add_to(counts, (int(at) // HOUR, "accepted", "", "", who, domain_of(address), "", -1), size)
    for at, seconds, connector, next_hop, cause, facts, arrived, size, who in connection.execute(_ATTEMPTS, times):
        results = json.loads(facts)["results"]
        count_results(counts, (at, seconds, connector, next_hop, cause), results, (arrived, size, who))
    for at, facts in connection.execute(_REFUSALS, (*times, Event.REFUSED.value)):
        count_refusal(counts, at, json.loads(facts))
    return (HourlyCount(*key, *of) for key, of in counts.items())


def count_results(
    counts: Counts,
    attempt: tuple[float, float, str, str, str],
    results: Iterable[Sequence[str]],
    message: tuple[float, int, str],
) -> None:
    """The counts of an attempt (at, seconds, connector, next hop, cause), for each recipient (address, state, stage,
    reply) of a message (arrived, size, who)."""
    at, seconds, connector, next_hop, cause = attempt
    arrived, size, who = message
    hour = int(at) // HOUR
    for address, state, stage, reply in results:
        reason = "" if state == _RELAYED else reason_of(reply, stage, cause)
        add_to(counts, (hour, state, connector, next_hop, who, domain_of(address), reason, -1), size)
        if state == _RELAYED:  # by itself: with all the rest, nearly each one would be a row of its own
            step = int(step_of_delay(at + seconds - arrived))
            add_to(counts, (hour, DELAY, connector, next_hop, "", "", "", step), 0)


def count_refusal(counts: Counts, at: float, facts: dict[str, object]) -> None:
    """A submission that a listener refused."""
    who = str(facts.get("account") or facts.get("who") or facts.get("client") or "")
    recipient = str(facts.get("recipient") or "")
    reason = reason_of(str(facts.get("reply") or ""), str(facts.get("stage") or ""))
    domain = domain_of(recipient) if recipient else ""
    add_to(counts, (int(at) // HOUR, "refused", "", "", who, domain, reason, -1), 0, int(str(facts.get("count") or 1)))


def message_counted(connection: sqlite3.Connection, id: int) -> tuple[float, int, str] | None:
    """When a message arrived, its size, and who submitted it."""
    result: tuple[float, int, str] | None = connection.execute(_MESSAGE, (id,)).fetchone()
    return result


def _added_later(connection: sqlite3.Connection) -> set[tuple[int, int]]:
    """Recipients that an administrator added: they were not submitted."""
    rows: Iterable[tuple[int, str]] = connection.execute(
        "SELECT message, facts FROM journal WHERE event = ? AND message IS NOT NULL", (Event.ORDERED.value,)
    )
    return {(message, number) for message, facts in rows for number in json.loads(facts).get("added", ())}


_ADD = (
    "INSERT INTO hourly VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)"
    " ON CONFLICT (hour, outcome, connector, next_hop, who, domain, reason, delay)"
    " DO UPDATE SET recipients = recipients + excluded.recipients, octets = octets + excluded.octets"
)
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
_RELAYED = State.RELAYED.value
_REFUSALS = "SELECT at, facts FROM journal WHERE at >= ?1 AND at < ?2 AND event = ?3"
