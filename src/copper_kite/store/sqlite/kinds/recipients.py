"""Recipients, and the attempts made for them."""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence
from operator import attrgetter

from copper_kite.store.facts import facts_text
from copper_kite.store.model import Attempt, Recipient
from copper_kite.store.operations import AddRecipient, RecordAttempt, RecordRelayed, SetState
from copper_kite.store.sqlite.kinds.hourly import Counts, add_counts, count_results, message_counted
from copper_kite.store.sqlite.kinds.kind import (
    EXPAND_MESSAGE,
    FORGET_COMPACT,
    Put,
    Row,
    dumps,
    insert,
    place,
    places,
    several,
)
from copper_kite.store.sqlite.kinds.tally import count_outcomes
from copper_kite.store.sqlite.segments import Extent
from copper_kite.words import FINAL, MESSAGE_STAGES, Cause, State

__all__ = [
    "add_recipients",
    "attempt_row",
    "recipient_row",
    "record_attempts",
    "record_relayed",
    "relayed_row",
    "send_by",
    "set_states",
    "state_row",
]

# `_value_` is what an enum documents for this; `value` goes through a descriptor written in Python.
_recipient_row = attrgetter(
    "message", "number", "address", "state._value_", "attempts", "next_try", "connector", "reply", "changed",
    "esmtp_parameters", "next_hop", "via",
)  # fmt: skip
_state_row = attrgetter(
    "state._value_", "attempts", "next_try", "connector", "reply", "at", "next_hop", "message", "number"
)  # in the order of the statement
_WHOLE = RecordRelayed._fields.index("whole")
_RELAYED = State.RELAYED.value
_FINAL = frozenset(state.value for state in FINAL)
_COUNTED = frozenset({State.RELAYED.value, State.FAILED.value})


def recipient_row(operation: AddRecipient, put: Put) -> Row:
    """A row of its table."""
    row: Row = _recipient_row(operation.recipient)
    return row


def add_recipients(connection: sqlite3.Connection, rows: Sequence[Row], at: Extent) -> None:
    """Add recipients."""
    connection.executemany(_INSERT_RECIPIENT, rows)


def state_row(operation: SetState, put: Put) -> Row:
    """The new values, then whose they are."""
    row: Row = _state_row(operation)
    return row


def set_states(connection: sqlite3.Connection, rows: Sequence[Row], at: Extent) -> None:
    """Set states, and forget the content that nobody wants any more."""
    connection.executemany(_UPDATE_RECIPIENT, rows)
    connection.executemany(_FORGET_UNWANTED, [(*places(id), id) for id in {row[7] for row in rows if row[0] in _FINAL}])
    ended: dict[tuple[str, str], list[float]] = {}
    for state, _, _, connector, _, now, *_ in rows:
        if state in _COUNTED:
            ended.setdefault((connector, state), []).append(now)
    count_outcomes(connection, ended)


def attempt_row(operation: RecordAttempt, put: Put) -> Row:
    """The columns of the attempt up to its facts; results, session, what was changed; dialogue; what it says of its
    connector."""
    attempt = operation.attempt
    facts = attempt.facts
    told = list(map(tuple, facts.results)), facts.session.text(), facts.changed
    return *attempt[:13], told, attempt.dialogue, _note(attempt)


def _note(attempt: Attempt) -> Row | None:
    """The connector's state after an attempt: its name, the time, and the failure's text, None for a success."""
    if attempt.facts.relayed:
        return attempt.connector, attempt.at, None
    if attempt.connector and not (attempt.cause and Cause(attempt.cause).final) and _speaks_of_the_session(attempt):
        said = (str(attempt.code or ""), attempt.enhanced, attempt.text)
        return attempt.connector, attempt.at, " ".join(filter(None, said))
    return None


_OF_SESSION = (421, 530)  # it closes; it wants a login first (RFC 4954 6)


def _speaks_of_the_session(attempt: Attempt) -> bool:
    """Whether a failure is the connector's, and not that of one message or recipient."""
    of_session = attempt.stage not in MESSAGE_STAGES or attempt.code in _OF_SESSION
    return of_session or bool(attempt.cause and Cause(attempt.cause).broke_session)


def record_attempts(connection: sqlite3.Connection, rows: Sequence[Row], at: Extent) -> None:
    """Add attempts, and what they say of their connectors."""
    connection.executemany(
        _INSERT_ATTEMPT,
        [(*row[:13], facts_text(*row[13]), None if row[14] is None else dumps(row[14])) for row in rows],
    )
    _note_connectors(connection, [row[15] for row in rows if row[15] is not None])
    delayed: dict[tuple[str, str], list[float]] = {}
    for row in rows:
        delayed.setdefault((row[4], "delayed"), []).extend(row[2] for result in row[13][0] if result[1] == "delayed")
    count_outcomes(connection, delayed)
    counts: Counts = {}
    for row in rows:
        message = message_counted(connection, row[1])
        if message is not None:
            count_results(counts, (row[2], row[3], row[4], row[5], row[9]), row[13][0], message)
    add_counts(connection, counts)


def relayed_row(operation: RecordRelayed, put: Put) -> Row:
    """Its values in their order."""
    return *operation[:11], operation.session.text(), *operation[12:]


def record_relayed(connection: sqlite3.Connection, rows: Sequence[Row], at: Extent) -> None:
    """Add attempts that relayed, and what became of the recipients: out of their folds at once, where they are."""
    many, states, attempts, good = connection.executemany, [], [], {}
    relayed: dict[tuple[str, str], list[float]] = {}
    counts: Counts = {}
    for row in rows:
        (id, message, began, seconds, connector, next_hop, address, code, enhanced, text, results, session, now, _,
         *counted) = row  # fmt: skip
        states += [
            (attempted, connector, reply, now, next_hop, message, number) for number, attempted, _, reply in results
        ]
        facts = facts_text([(to, "relayed", "accept", reply) for _, _, to, reply in results], session)
        attempts.append((id, message, began, seconds, connector, next_hop, address, code, enhanced, text, facts))
        told = [(to, _RELAYED, "", "") for _, _, to, _ in results]
        count_results(counts, (began, seconds, connector, next_hop, ""), told, counted)  # type: ignore[arg-type]
        good[connector] = began
        relayed.setdefault((connector, "relayed"), []).extend([now] * len(results))
    compact = several([row[1] for row in rows])
    many(EXPAND_MESSAGE, compact)
    expanded = many(
        "INSERT INTO recipient SELECT message, number, address, 'relayed', ?1, NULL, ?2, ?3, ?4, esmtp_parameters, ?5,"
        " via FROM compact_recipient WHERE message = ?6 AND number = ?7",
        states,
    )
    many(FORGET_COMPACT, compact)
    if expanded.rowcount < len(states):  # not all of them were compact
        many(
            "UPDATE recipient SET state = 'relayed', attempts = ?, next_try = NULL, connector = ?, reply = ?,"
            " changed = ?, next_hop = ? WHERE message = ? AND number = ?",
            states,
        )
        many("DELETE FROM content WHERE place = ?", [(place(row[1], 0),) for row in rows if row[_WHOLE]])
        many(_FORGET_UNWANTED, [(*places(row[1]), row[1]) for row in rows if not row[_WHOLE]])
    many("INSERT INTO attempt VALUES (?, ?, ?, ?, ?, ?, ?, 'accept', '', '', ?, ?, ?, ?, NULL)", attempts)
    _note_connectors(connection, [(name, began, None) for name, began in good.items()])
    count_outcomes(connection, relayed)
    add_counts(connection, counts)


def _note_connectors(connection: sqlite3.Connection, notes: Sequence[Row]) -> None:
    """Keep each connector's last success and failure, one row a connector and commit."""
    good: dict[str, float] = {}
    bad: dict[str, tuple[float, str]] = {}
    for name, at, failure in notes:
        if failure is None:
            good[name] = at
        else:
            bad[name] = (at, failure)
    for name in good.keys() | bad.keys():
        at, text = bad.get(name, (None, ""))
        connection.execute(
            "INSERT INTO connector VALUES (?1, ?2, ?3, ?4) ON CONFLICT (name) DO UPDATE SET"
            " last_good = coalesce(?2, last_good), last_bad = coalesce(?3, last_bad),"
            " last_bad_text = iif(?3 IS NULL, last_bad_text, ?4)",
            (name, good.get(name), at, text),
        )


def note_failures(connection: sqlite3.Connection, rows: Sequence[Row], at: Extent) -> None:
    """Keep when connectors failed last."""
    _note_connectors(connection, rows)


def send_by(connection: sqlite3.Connection, rows: Sequence[Row], at: Extent) -> None:
    """Set the connectors that an administrator chose."""
    connection.executemany("UPDATE recipient SET via = ? WHERE message = ? AND number = ?", rows)


_INSERT_RECIPIENT = insert("recipient", len(Recipient._fields))
_INSERT_ATTEMPT = insert("attempt", len(Attempt._fields))
_UPDATE_RECIPIENT = (
    "UPDATE recipient SET state = ?, attempts = ?, next_try = ?, connector = ?, reply = ?, changed = ?,"
    " next_hop = ?"
    " WHERE message = ? AND number = ?"
)
_FORGET_UNWANTED = (  # when nobody may want it any more
    "DELETE FROM content WHERE place BETWEEN ?1 AND ?2 AND NOT EXISTS"
    " (SELECT 1 FROM recipient WHERE message = ?3 AND state IN ('queued', 'delayed', 'parked', 'failed'))"
)
