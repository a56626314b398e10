"""Recipients, and the attempts made for them."""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence
from functools import partial

from copper_kite.store.facts import facts_text
from copper_kite.store.model import Attempt, Recipient
from copper_kite.store.operations import RecordRelayed
from copper_kite.store.shared.counting import (
    Counts,
    count_attempts,
    count_outcomes_of_states,
    count_results,
    last_notes,
)
from copper_kite.store.shared.encoding import Row, place, places
from copper_kite.store.sqlite.kinds.hourly import add_counts, message_counted
from copper_kite.store.sqlite.kinds.kind import EXPAND_MESSAGE, FORGET_COMPACT, dumps, insert, several
from copper_kite.store.sqlite.kinds.tally import count_outcomes
from copper_kite.store.sqlite.segments import Extent
from copper_kite.words import FINAL, State

__all__ = [
    "add_recipients",
    "record_attempts",
    "record_relayed",
    "send_by",
    "set_states",
]

_WHOLE = RecordRelayed._fields.index("whole")
_RELAYED = State.RELAYED.value
_FINAL = frozenset(state.value for state in FINAL)


def add_recipients(connection: sqlite3.Connection, rows: Sequence[Row], at: Extent) -> None:
    """Add recipients."""
    connection.executemany(_INSERT_RECIPIENT, rows)


def set_states(connection: sqlite3.Connection, rows: Sequence[Row], at: Extent) -> None:
    """Set states, and forget the content that nobody wants any more."""
    connection.executemany(_UPDATE_RECIPIENT, rows)
    connection.executemany(_FORGET_UNWANTED, [(*places(id), id) for id in {row[7] for row in rows if row[0] in _FINAL}])
    count_outcomes(connection, count_outcomes_of_states(rows))


def record_attempts(connection: sqlite3.Connection, rows: Sequence[Row], at: Extent) -> None:
    """Add attempts, and what they say of their connectors."""
    connection.executemany(
        _INSERT_ATTEMPT,
        [(*row[:13], facts_text(*row[13]), None if row[14] is None else dumps(row[14])) for row in rows],
    )
    _note_connectors(connection, [row[15] for row in rows if row[15] is not None])
    counts, delayed = count_attempts(rows, partial(message_counted, connection))
    count_outcomes(connection, delayed)
    add_counts(connection, counts)


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
    connection.executemany(_NOTE_CONNECTOR, last_notes(notes))


def note_failures(connection: sqlite3.Connection, rows: Sequence[Row], at: Extent) -> None:
    """Keep when connectors failed last."""
    _note_connectors(connection, rows)


def send_by(connection: sqlite3.Connection, rows: Sequence[Row], at: Extent) -> None:
    """Set the connectors that an administrator chose."""
    connection.executemany("UPDATE recipient SET via = ? WHERE message = ? AND number = ?", rows)


_NOTE_CONNECTOR = (
    "INSERT INTO connector VALUES (?1, ?2, ?3, ?4) ON CONFLICT (name) DO UPDATE SET"
    " last_good = coalesce(?2, last_good), last_bad = coalesce(?3, last_bad),"
    " last_bad_text = iif(?3 IS NULL, last_bad_text, ?4)"
)
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
