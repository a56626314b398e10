"""Hourly counts for reports of accepted messages and results, by connector, next hop, sender, domain and reason.

Each count comes from a row that the journal keeps (a message, an attempt, an entry), and its hour from that row's time:
so what the journal still has can be counted again, and must come to the same.
"""

from __future__ import annotations

import json
import re
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import Any

from copper_kite.store.model import HourlyCount, Message, step_of_delay
from copper_kite.words import Event, State

__all__ = [
    "HOUR",
    "MINUTE",
    "Counts",
    "HourKey",
    "KnownKeys",
    "add_to",
    "by_minute",
    "count_additions",
    "count_attempts",
    "count_outcomes_of_states",
    "count_refusal",
    "count_refusals",
    "count_results",
    "domain_of",
    "last_notes",
    "reason_of",
    "recount",
    "sum_taken",
]

HOUR = 3600  # seconds
MINUTE = 60  # seconds
MOST_KEYS = 300  # of an hour; then domains count as "other", and after as many more senders, next hops and reasons
OTHER, DELAY = "other", "delay"
_CODES = re.compile(r"([2-5]\d\d)(?:[ -]([245]\.\d{1,3}\.\d{1,3}))?\b")
_LISTENER, _CLIENT, _USER = map(Message._fields.index, ("listener", "client", "user"))
_RELAYED = State.RELAYED.value
_REFUSED = Event.REFUSED.value
_COUNTED = frozenset({State.RELAYED.value, State.FAILED.value})

HourKey = tuple[int, str, str, str, str, str, str, int]  # a HourlyCount up to its numbers
Counts = dict[HourKey, list[int]]  # recipients and octets


def domain_of(address: str) -> str:
    """The domain of an address, in lower case; cut where it is longer than any real one."""
    return address[address.rfind("@") + 1 :].lower()[:255]


def reason_of(reply: str, stage: str, cause: str = "") -> str:
    """Why a recipient was put off or failed: the codes of the reply and the stage of the session, or else the cause."""
    match = _CODES.match(reply)
    return " ".join(filter(None, (*match.groups(), stage))) if match is not None else cause


def add_to(counts: Counts, key: HourKey, octets: int, recipients: int = 1) -> None:
    """Add to a count."""
    known = counts.get(key)
    if known is None:
        counts[key] = [recipients, octets]
    else:
        known[0] += recipients
        known[1] += octets


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


class KnownKeys:
    """The keys of the hours that one process counts in, which are bounded in number."""

    def __init__(self) -> None:
        self._known: dict[int, set[HourKey]] = {}

    def has(self, hour: int) -> bool:
        """Whether the keys of an hour are known."""
        return hour in self._known

    def take_up(self, hour: int, keys: Iterable[HourKey]) -> None:
        """Learn which keys an hour has by now."""
        if len(self._known) > 1:  # the clock may stand at the end of an hour: the one before is still counted in
            del self._known[min(self._known)]
        self._known[hour] = set(keys)

    def bounded(self, key: HourKey) -> HourKey:
        """The key, where its hour has room for it; else the one that all others share."""
        known = self._known[key[0]]
        if key in known:
            return key
        if len(known) >= MOST_KEYS:
            hour, outcome, connector, next_hop, who, _, reason, delay = key
            if len(known) >= 2 * MOST_KEYS:
                next_hop, who, reason = (OTHER if name else "" for name in (next_hop, who, reason))
            key = hour, outcome, connector, next_hop, who, OTHER if key[5] else "", reason, delay
        known.add(key)
        return key


def by_minute(instants: Sequence[float]) -> list[tuple[int, int]]:
    """Instants (seconds since 1970) counted by the minute."""
    if not instants:
        return []
    first, last = int(min(instants)) // MINUTE, int(max(instants)) // MINUTE
    if first == last:  # as nearly always within a commit
        return [(first, len(instants))]
    return list(Counter(int(at) // MINUTE for at in instants).items())


def count_additions(rows: Sequence[Sequence[object]]) -> tuple[Counts, list[float]]:
    """The counts of messages that were submitted (rows of `AddMessage`), and when, once for each recipient.

    A message without a listener is a notice of ours.
    """
    counts: Counts = {}
    instants: list[float] = []
    row: Sequence[Any]
    of: Sequence[Any]
    for row, of, *_ in rows:  # type: ignore[assignment]
        if row[_LISTENER]:
            hour, who, size = int(row[1]) // HOUR, row[_USER] or row[_CLIENT], row[4]
            instants += [row[1]] * len(of)
            for _, address, *_ in of:
                add_to(counts, (hour, "accepted", "", "", who, domain_of(address), "", -1), size)
    return counts, instants


def count_refusals(rows: Sequence[Sequence[Any]]) -> tuple[Counts, list[float]]:
    """The counts of submissions that were refused (rows of `WriteEntry`), and when."""
    counts: Counts = {}
    instants = [at for at, event, *_ in rows if event == _REFUSED]
    for when, event, _, facts in rows:
        if event == _REFUSED:
            count_refusal(counts, when, facts)
    return counts, instants


def count_outcomes_of_states(rows: Sequence[Sequence[Any]]) -> dict[tuple[str, str], list[float]]:
    """When recipients ended (rows of `SetState`), by connector and state."""
    ended: dict[tuple[str, str], list[float]] = {}
    for state, _, _, connector, _, now, *_ in rows:
        if state in _COUNTED:
            ended.setdefault((connector, state), []).append(now)
    return ended


def count_attempts(
    rows: Sequence[Sequence[Any]], message_of: Callable[[int], tuple[float, int, str] | None]
) -> tuple[Counts, dict[tuple[str, str], list[float]]]:
    """The counts of attempts (rows of `RecordAttempt`), and when recipients were put off, by connector; `message_of`
    gives when a message arrived, its size, and who submitted it."""
    counts: Counts = {}
    delayed: dict[tuple[str, str], list[float]] = {}
    for row in rows:
        results = row[13][0]
        delayed.setdefault((row[4], "delayed"), []).extend(row[2] for result in results if result[1] == "delayed")
        if (message := message_of(row[1])) is not None:
            count_results(counts, (row[2], row[3], row[4], row[5], row[9]), results, message)
    return counts, delayed


def recount(
    accepted: Iterable[Sequence[Any]],
    attempts: Iterable[Sequence[Any]],
    refusals: Iterable[Sequence[Any]],
    ordered: Iterable[Sequence[Any]],
) -> Iterator[HourlyCount]:
    """The counts made again from what the journal keeps.

    The rows are: message, number, arrival, size, who, address of each recipient; at, seconds, connector, next hop,
    cause, facts of each attempt, and arrival, size, who of its message; at, facts of each refusal; message, facts of
    each order of an administrator. A recipient that one added was not submitted.
    """
    counts: Counts = {}
    added = {(message, number) for message, facts in ordered for number in json.loads(facts).get("added", ())}
    for id, number, at, size, who, address in accepted:
        if (id, number) not in added:
            add_to(counts, (int(at) // HOUR, "accepted", "", "", who, domain_of(address), "", -1), size)
    for at, seconds, connector, next_hop, cause, facts, *message in attempts:
        results = json.loads(facts)["results"]
        count_results(counts, (at, seconds, connector, next_hop, cause), results, message)  # type: ignore[arg-type]
    for at, facts in refusals:
        count_refusal(counts, at, json.loads(facts))
    return (HourlyCount(*key, *of) for key, of in counts.items())


def sum_taken(taken: Sequence[Sequence[Any]]) -> dict[tuple[str, int], int]:
    """What senders submitted (who, hour, recipients), together."""
    sums: dict[tuple[str, int], int] = {}
    for who, hour, count in taken:
        if who or count:
            sums[who, hour] = sums.get((who, hour), 0) + count
    return sums


def last_notes(notes: Sequence[Sequence[Any]]) -> list[tuple[str, float | None, float | None, str]]:
    """Of each connector the last success, and the last failure with its text, out of notes (name, at, text or None for
    a success)."""
    good: dict[str, float] = {}
    bad: dict[str, tuple[float | None, str]] = {}
    for name, at, failure in notes:
        if failure is None:
            good[name] = at
        else:
            bad[name] = (at, failure)
    return [(name, good.get(name), *bad.get(name, (None, ""))) for name in good.keys() | bad.keys()]
