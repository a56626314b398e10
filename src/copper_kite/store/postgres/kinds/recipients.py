"""Recipients, and the attempts made for them."""

from __future__ import annotations

from collections.abc import Sequence

from copper_kite.store.facts import facts_text
from copper_kite.store.postgres.kinds.tables import Tables, dumps
from copper_kite.store.shared.counting import (
    Counts,
    count_attempts,
    count_outcomes_of_states,
    count_results,
    last_notes,
)
from copper_kite.store.shared.encoding import Row
from copper_kite.words import FINAL, State

__all__ = [
    "add_recipients",
    "note_failures",
    "record_attempts",
    "record_relayed",
    "reroute",
    "send_by",
    "set_states",
]

_RELAYED = State.RELAYED.value
_FINAL = frozenset(state.value for state in FINAL)
_ATTEMPT_NAMES = (
    "id, message, at, seconds, connector, next_hop, address, stage, side, cause, code, enhanced, text, facts, dialogue"
)


def add_recipients(tables: Tables, rows: Sequence[Row]) -> None:
    """Add recipients."""
    tables.many(f"INSERT INTO recipient VALUES ({', '.join(['%s'] * 12)})", rows)


def set_states(tables: Tables, rows: Sequence[Row]) -> None:
    """Set states, and remove the content that nobody wants any more."""
    tables.many(_UPDATE_RECIPIENT, rows)
    ended = {row[7] for row in rows if row[0] in _FINAL}
    if ended:
        tables.do(_FORGET_UNWANTED, list(ended))
    tables.count({}, count_outcomes_of_states(rows))


def record_attempts(tables: Tables, rows: Sequence[Row]) -> None:
    """Add attempts, and what they say of their connectors."""
    tables.add(
        "attempt",
        _ATTEMPT_NAMES,
        [(*row[:13], facts_text(*row[13]), None if row[14] is None else dumps(row[14])) for row in rows],
    )
    _note_connectors(tables, [row[15] for row in rows if row[15] is not None])
    messages = {
        id: (arrived, size, who)
        for id, arrived, size, who in tables.connection.execute(_COUNTED_MESSAGES, ([row[1] for row in rows],))
    }
    tables.count(*count_attempts(rows, messages.get))


def record_relayed(tables: Tables, rows: Sequence[Row]) -> None:
    """Add attempts that relayed, and what became of the recipients; remove the content."""
    states: list[Row] = []
    attempts: list[Row] = []
    good: dict[str, float] = {}
    relayed: dict[tuple[str, str], list[float]] = {}
    counts: Counts = {}
    for row in rows:
        (id, message, began, seconds, connector, next_hop, address, code, enhanced, text, results, session, now, _,
         *counted) = row  # fmt: skip
        states += [
            (message, number, attempted, connector, reply, now, next_hop) for number, attempted, _, reply in results
        ]
        facts = facts_text([(to, _RELAYED, "accept", reply) for _, _, to, reply in results], session)
        attempts.append(
            (id, message, began, seconds, connector, next_hop, address, "accept", "", "", code, enhanced, text, facts,
             None)
        )  # fmt: skip
        told = [(to, _RELAYED, "", "") for _, _, to, _ in results]
        count_results(counts, (began, seconds, connector, next_hop, ""), told, counted)  # type: ignore[arg-type]
        good[connector] = began
        relayed.setdefault((connector, _RELAYED), []).extend([now] * len(results))
    tables.do(_SET_RELAYED, *map(list, zip(*states, strict=True)))
    tables.add("attempt", _ATTEMPT_NAMES, attempts)
    whole = [row[1] for row in rows if row[13]]
    if whole:
        tables.do("DELETE FROM content WHERE message = ANY(%s)", whole)
    if len(whole) < len(rows):
        tables.do(_FORGET_UNWANTED, [row[1] for row in rows if not row[13]])
    _note_connectors(tables, [(name, began, None) for name, began in good.items()])
    tables.count(counts, relayed)


def _note_connectors(tables: Tables, notes: Sequence[Row]) -> None:
    """Keep each connector's last success and failure, one row a connector and commit."""
    rows = [(name, tables.slot, *note) for name, *note in last_notes(notes)]
    if rows:
        tables.many(_NOTE_CONNECTOR, rows)


def note_failures(tables: Tables, rows: Sequence[Row]) -> None:
    """Keep when connectors failed last."""
    _note_connectors(tables, rows)


def send_by(tables: Tables, rows: Sequence[Row]) -> None:
    """Set the connectors that an administrator chose."""
    tables.many("UPDATE recipient SET via = %s WHERE message = %s AND number = %s", rows)


def reroute(tables: Tables, rows: Sequence[Row]) -> None:
    """Set the connectors that carry recipients."""
    tables.many("UPDATE recipient SET connector = %s WHERE message = %s AND number = %s", rows)


_UPDATE_RECIPIENT = (
    "UPDATE recipient SET state = %s, attempts = %s, next_try = %s, connector = %s, reply = %s, changed = %s,"
    " next_hop = %s WHERE message = %s AND number = %s"
)
_SET_RELAYED = (
    "UPDATE recipient r SET state = 'relayed', attempts = v.attempts, next_try = NULL, connector = v.connector,"
    " reply = v.reply, changed = v.changed, next_hop = v.next_hop FROM unnest(%s::bigint[], %s::int[], %s::int[],"
    " %s::text[], %s::text[], %s::float8[], %s::text[])"
    " AS v (message, number, attempts, connector, reply, changed, next_hop)"
    " WHERE r.message = v.message AND r.number = v.number"
)
_FORGET_UNWANTED = (  # when nobody may want it any more
    "DELETE FROM content c WHERE c.message = ANY(%s) AND NOT EXISTS (SELECT 1 FROM recipient r"
    " WHERE r.message = c.message AND r.state IN ('queued', 'delayed', 'parked', 'failed'))"
)
_COUNTED_MESSAGES = """SELECT id, arrived, size, coalesce(nullif("user", ''), client) FROM message WHERE id = ANY(%s)"""
_NOTE_CONNECTOR = (
    "INSERT INTO connector VALUES (%s, %s, %s, %s, %s) ON CONFLICT (name, server) DO UPDATE SET"
    " last_good = coalesce(excluded.last_good, connector.last_good),"
    " last_bad = coalesce(excluded.last_bad, connector.last_bad), last_bad_text ="
    " CASE WHEN excluded.last_bad IS NULL THEN connector.last_bad_text ELSE excluded.last_bad_text END"
)
