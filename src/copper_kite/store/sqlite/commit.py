"""Changes as rows, and rows into the database: one transaction for all that waits, then the commit.

`rows_of` makes plain values of a change, and `fresh_row` of a submission that came whole, so that they can go to the
process that writes; `commit` is what it does with them. Octets of content are not among them: where they stand is. A
change that fails leaves nothing behind and does not touch its neighbours.
"""

from __future__ import annotations

import errno
import json
import sqlite3
from collections.abc import Callable, Collection, Iterator, Sequence
from json.encoder import encode_basestring
from operator import attrgetter, itemgetter
from typing import Any, NamedTuple

from copper_kite.store.model import Attempt, Change, Fresh, JournalEntry, LaneStop, Message, Recipient, Wanted
from copper_kite.store.sqlite.schema import PORTION_BITS, PORTIONS
from copper_kite.store.sqlite.segments import Extent
from copper_kite.store.sqlite.storable import storable
from copper_kite.words import BROKEN_CAUSES, FINAL, FINAL_CAUSES, MESSAGE_STAGES

__all__ = [
    "FAILED",
    "FULL",
    "Batch",
    "Fault",
    "FreshRow",
    "Put",
    "Row",
    "Rows",
    "commit",
    "failure",
    "fresh_row",
    "holds_content",
    "place",
    "rows_of",
    "used_segments",
    "want",
]

FULL = "full"  # the kind of fault that is worth trying again when there is room; all else is FAILED
FAILED = "failed"

Row = tuple[Any, ...]
FreshRow = tuple[Row, list[Row], int, Row]  # message; of each recipient what `_new_recipient` gets; content; taken
Put = Callable[[bytes], int]  # hands octets on, and says where they stand among those that go together
Fault = tuple[str, str]  # its kind, and what the engine says

SEVERAL = 20  # ids in one statement

_new_recipient = itemgetter(1, 2, 9, 6)  # number, address, asked, connector
_text = encode_basestring  # as JSON has it
_dumps = json.JSONEncoder(separators=(",", ":"), ensure_ascii=False).encode


class Rows(NamedTuple):
    """A change as plain values, table by table. What is JSON in the database is still a value here."""

    messages: Sequence[Row]
    recipients: Sequence[Row]
    content: Sequence[Row]
    outcomes: Sequence[Row]
    attempts: Sequence[Row]
    connectors: Sequence[Row]
    journal: Sequence[Row]
    finished: Sequence[int]
    ended: Sequence[int]
    dropped: Sequence[int]
    taken: Sequence[Row]
    hastened: Sequence[Row]
    done: Sequence[int]
    extended: Sequence[Row]
    sent_by: Sequence[Row]
    forgotten: Sequence[int]
    forgotten_before: Sequence[Row]
    moved: Sequence[Row]
    shifted: Sequence[Row]
    stopped: Sequence[Row]
    started: Sequence[Row]
    rerouted: Sequence[Row]


class Batch(NamedTuple):
    """What goes into one transaction, by kind; `at` is where the octets that go together stand by now."""

    at: Extent = (0, 0)
    fresh: Sequence[FreshRow] = ()
    relayed: Sequence[Row] = ()
    changes: Sequence[Rows] = ()

    @property
    def changes_in_all(self) -> int:
        """How many there are of all kinds."""
        return len(self.fresh) + len(self.relayed) + len(self.changes)


def fresh_row(fresh: Fresh, put: Put) -> FreshRow:
    """A submission as plain values. Raises what `put` does."""
    message, recipients, content, taken = fresh
    assert content is not None
    return tuple(message), list(map(_new_recipient, recipients)), put(content), taken


def rows_of(change: Change, put: Put) -> Rows:
    """Plain values: numbers, strings, None, and lists and dictionaries of them. Raises what `put` does."""
    finished, outcomes, attempts = change.finished, change.outcomes, change.attempts
    return Rows(
        list(map(tuple, change.messages)) if change.messages else (),
        list(map(_recipient_row, change.recipients)) if change.recipients else (),
        [(place(message, portion), put(octets), len(octets)) for message, portion, octets in change.content],
        list(map(_outcome_row, outcomes)) if outcomes else (),
        list(map(tuple, attempts)) if attempts else (),
        [note for note in map(_connector_row, attempts) if note is not None] if attempts else (),
        list(map(_journal_row, change.journal)) if change.journal else (),
        finished,
        [outcome.message for outcome in outcomes if outcome.state in FINAL] if outcomes and not finished else (),
        change.dropped,
        change.taken,
        change.hastened,
        change.done,
        change.extended,
        change.sent_by,
        change.forgotten,
        change.forgotten_before,
        [(put(octets), place(message, portion), len(octets)) for message, portion, octets in change.moved],
        change.shifted,
        list(map(tuple, change.stopped)) if change.stopped else (),
        change.started,
        change.rerouted,
    )


def commit(connection: sqlite3.Connection, batch: Batch) -> list[Fault | None]:
    """Have all of it on stable storage, as one transaction; each with the fault that kept it out, if one did."""
    try:
        connection.execute("BEGIN IMMEDIATE")
        _write(connection, batch)
        faults: list[Fault | None] = [None] * batch.changes_in_all
    except Exception:  # whatever it is, it is one change's, and not the others'
        _roll_back(connection)
        faults = _write_singly(connection, storable(_singled(batch)))
    try:
        if connection.in_transaction:
            connection.execute("COMMIT")
    except sqlite3.Error as error:
        _roll_back(connection)
        failure = _fault(error)
        return [fault or failure for fault in faults]
    return faults


def _singled(batch: Batch) -> list[Batch]:
    """Each change as a batch of its own."""
    return [
        *(Batch(batch.at, fresh=[one]) for one in batch.fresh),
        *(Batch(batch.at, relayed=[one]) for one in batch.relayed),
        *(Batch(batch.at, changes=[one]) for one in batch.changes),
    ]


def _write_singly(connection: sqlite3.Connection, batch: Sequence[Batch]) -> list[Fault | None]:
    """Leave out the changes that fail, so that none of them takes another with it.

    An error may undo the whole transaction, what went before it included (a full disk does): so each time, those
    that are left begin anew. When the disk is full, what comes behind is not tried either.
    """
    faults: list[Fault | None] = [None] * len(batch)
    while any(fault is None for fault in faults):
        failed = _write_until_one_fails(connection, batch, faults)
        if failed is None:
            break
        _roll_back(connection)
        number, fault = failed
        faults[number] = fault
        if fault[0] == FULL:
            faults[number + 1 :] = [later or fault for later in faults[number + 1 :]]
    return faults


def _write_until_one_fails(
    connection: sqlite3.Connection, batch: Sequence[Batch], faults: Sequence[Fault | None]
) -> tuple[int, Fault] | None:
    number = 0
    try:
        connection.execute("BEGIN IMMEDIATE")
        for number, one in enumerate(batch):
            if faults[number] is None:
                _write(connection, one)
    except Exception as error:
        return number, _fault(error)
    return None


def _roll_back(connection: sqlite3.Connection) -> None:
    if connection.in_transaction:
        connection.execute("ROLLBACK")


def _fault(error: Exception) -> Fault:
    full = getattr(error, "sqlite_errorcode", None) == sqlite3.SQLITE_FULL
    return FULL if full else FAILED, str(error) if isinstance(error, sqlite3.Error) else repr(error)


def failure(error: OSError) -> Fault:
    """What kept content from stable storage."""
    return FULL if error.errno in (errno.ENOSPC, errno.EDQUOT) else FAILED, error.strerror or str(error)


def holds_content(connection: sqlite3.Connection) -> bool:
    """Whether anything is kept in any segment."""
    row = connection.execute("SELECT EXISTS (SELECT 1 FROM content) OR EXISTS (SELECT 1 FROM folded)").fetchone()
    return bool(row[0])


def used_segments(connection: sqlite3.Connection) -> set[int]:
    """The segments that hold something."""
    rows = connection.execute("SELECT segment FROM content UNION SELECT segment FROM folded")
    return {number for (number,) in rows}


# --- statements -----------------------------------------------------------------------------------------------------


def _write(connection: sqlite3.Connection, batch: Batch) -> None:
    """Put all of it into the open transaction. Raises sqlite3.Error."""
    if batch.fresh:
        _write_fresh(connection, batch.fresh, batch.at)
    if batch.relayed:
        _write_relayed(connection, batch.relayed)
    if batch.changes:
        _write_changes(connection, batch.changes, batch.at)


def _write_fresh(connection: sqlite3.Connection, fresh: Sequence[FreshRow], at: Extent) -> None:
    many, (segment, base) = connection.executemany, at
    folded = [
        # +: the binding looks for a way to adapt a bool, each time anew
        (*row[:5], +row[5], +row[6], *row[7:15], *of[0][1:3], segment, base + start, row[15], of[0][3])
        for row, of, start, _ in fresh
        if len(of) == 1
    ]
    many(_INSERT_FOLDED, folded)
    if len(folded) < len(fresh):
        several = [one for one in fresh if len(one[1]) > 1]
        many(_INSERT_MESSAGE, [row for row, _, _, _ in several])
        content = [(row[0] << PORTION_BITS, segment, base + start, row[4]) for row, _, start, _ in several]
        many(_INSERT_CONTENT, content)
        many(
            "INSERT INTO recipient VALUES (?1, ?2, ?3, 'queued', 0, ?6, ?5, '', ?6, ?4, '', '')",
            [(row[0], *one, row[1]) for row, recipients, _, _ in several for one in recipients],
        )
    many(_ADD_TAKEN, _summed([taken for _, _, _, taken in fresh]))


def _unfold(connection: sqlite3.Connection, ids: Collection[int]) -> None:
    """Give what is folded of these messages rows of its own in the three tables."""
    several = _several(ids)
    for statement in (_UNFOLD_MESSAGE, _UNFOLD_RECIPIENT, _UNFOLD_CONTENT, _FORGET_FOLDED):
        connection.executemany(statement, several)


def _several(ids: Collection[int]) -> list[Row]:
    """Ids as a statement with SEVERAL places takes them: one that takes many at a time is much less work."""
    found = list(ids)
    rows = [found[start : start + SEVERAL] for start in range(0, len(found), SEVERAL)]
    return [(*row, *[None] * (SEVERAL - len(row))) for row in rows]


def _write_relayed(connection: sqlite3.Connection, relayed: Sequence[Row]) -> None:
    many, outcomes, attempts, good = connection.executemany, [], [], {}
    for row in relayed:
        id, message, at, seconds, connector, next_hop, address, code, enhanced, text, results, session, now, _ = row
        outcomes += [
            (attempted, connector, said, now, next_hop, message, number) for number, attempted, _, said in results
        ]
        told = ",".join([f'[{_text(to)},"relayed","accept",{_text(said)}]' for _, _, to, said in results])
        facts = f'{{"relayed":{len(results)},"results":[{told}],{session}}}'
        attempts.append((id, message, at, seconds, connector, next_hop, address, code, enhanced, text, facts))
        good[connector] = at
    several = _several([row[1] for row in relayed])
    many(_UNFOLD_MESSAGE, several)
    unfolded = many(
        "INSERT INTO recipient SELECT message, number, address, 'relayed', ?1, NULL, ?2, ?3, ?4, asked, ?5, via"
        " FROM folded_recipient WHERE message = ?6 AND number = ?7",
        outcomes,
    )
    many(_FORGET_FOLDED, several)
    if unfolded.rowcount < len(outcomes):  # not all of them were folded
        many(
            "UPDATE recipient SET state = 'relayed', attempts = ?, next_try = NULL, connector = ?, reply = ?,"
            " changed = ?, next_hop = ? WHERE message = ? AND number = ?",
            outcomes,
        )
        many(_FORGET_CONTENT, [(place(row[1], 0),) for row in relayed if row[-1]])
        many(_FORGET_UNWANTED, [(*_places(row[1]), row[1]) for row in relayed if not row[-1]])
    many("INSERT INTO attempt VALUES (?, ?, ?, ?, ?, ?, ?, 'accept', '', '', ?, ?, ?, ?, NULL)", attempts)
    _note_connectors(connection, [(name, at, None) for name, at in good.items()])


def _write_changes(connection: sqlite3.Connection, batch: Sequence[Rows], at: Extent) -> None:
    many, (segment, base) = connection.executemany, at
    _unfold(connection, {id for rows in batch for id in _messages_of(rows)})
    many(_INSERT_MESSAGE, [row for rows in batch for row in rows.messages])
    content = [(where, segment, base + start, size) for rows in batch for where, start, size in rows.content]
    many(_INSERT_CONTENT, content)
    for rows in batch:
        if rows.dropped or (rows.content and not (rows.messages and _is_whole(rows))):
            _note_growing(connection, rows)
    many(_INSERT_RECIPIENT, [row for rows in batch for row in rows.recipients])
    many(_UPDATE_RECIPIENT, [row for rows in batch for row in rows.outcomes])
    attempts = [(*row[:13], _json(row[13]), _json(row[14])) for rows in batch for row in rows.attempts]
    many(_INSERT_ATTEMPT, attempts)
    _note_connectors(connection, [row for rows in batch for row in rows.connectors])
    many(_INSERT_JOURNAL, [(*row[:4], _json(row[4])) for rows in batch for row in rows.journal])
    many(_FORGET_CONTENT, [(place(id, 0),) for rows in batch for id in rows.finished])
    many(_FORGET_UNWANTED, [(*_places(id), id) for id in {id for rows in batch for id in rows.ended}])
    many("DELETE FROM content WHERE place BETWEEN ? AND ?", [_places(id) for rows in batch for id in rows.dropped])
    many(_ADD_TAKEN, _summed([row for rows in batch for row in rows.taken]))
    moved = [(segment, base + start, where) for rows in batch for start, where, _ in rows.moved]
    many("UPDATE content SET segment = ?, start = ? WHERE place = ?", moved)
    many(
        "UPDATE recipient SET next_try = ?1 WHERE state = 'delayed' AND next_try > ?1 AND connector = ?2",
        [row for rows in batch for row in rows.hastened],
    )
    many(_STOP_LANE, [row for rows in batch for row in rows.stopped])
    many("DELETE FROM lane WHERE connector = ? AND domain = ?", [row for rows in batch for row in rows.started])
    rerouted = [row for rows in batch for row in rows.rerouted]
    many("UPDATE recipient SET connector = ? WHERE message = ? AND number = ?", rerouted)
    many("UPDATE folded SET connector = ?1 WHERE id = ?2 AND ?3 = 1", rerouted)
    for statement in _SHIFT:
        many(statement, [row for rows in batch for row in rows.shifted])
    many("DELETE FROM wanted WHERE number = ?", [(number,) for rows in batch for number in rows.done])
    many("UPDATE message SET expires = ? WHERE id = ?", [row for rows in batch for row in rows.extended])
    many(
        "UPDATE recipient SET via = ? WHERE message = ? AND number = ?", [row for rows in batch for row in rows.sent_by]
    )
    forgotten = [id for rows in batch for id in rows.forgotten]
    if forgotten:
        _forget(connection, forgotten)
    before = [row for rows in batch for row in rows.forgotten_before]
    many(_FORGET_JOURNAL, [(at,) for at, _ in before])
    many("DELETE FROM taken WHERE hour < ?", [(hour,) for _, hour in before])


def _messages_of(rows: Rows) -> Iterator[int]:
    """The messages that it says something about, and that were there before."""
    if not rows.messages:
        yield from (row[0] for row in rows.recipients)
    yield from (row[7] for row in rows.outcomes)
    yield from (row[1] for row in rows.attempts)
    yield from (row[3] for row in rows.journal if row[3] is not None)
    yield from (row[1] for row in rows.extended)
    yield from (row[1] for row in rows.sent_by)
    yield from (row[1] >> PORTION_BITS for row in rows.moved)


def _forget(connection: sqlite3.Connection, ids: Sequence[int]) -> None:
    """Everything about these messages."""
    connection.executemany("DELETE FROM content WHERE place BETWEEN ? AND ?", [_places(id) for id in ids])
    for table, column in (("recipient", "message"), ("attempt", "message"), ("journal", "message"), ("message", "id")):
        connection.executemany(f"DELETE FROM {table} WHERE {column} = ?", [(id,) for id in ids])


# The oldest rows alone are looked at: a few at a time is enough.
_FORGET_JOURNAL = (
    "DELETE FROM journal WHERE number IN (SELECT number FROM journal ORDER BY number LIMIT 2000)"
    " AND message IS NULL AND at < ?"
)


def _summed(taken: Sequence[Row]) -> list[Row]:
    sums: dict[tuple[str, int], int] = {}
    for who, hour, count in taken:
        sums[who, hour] = sums.get((who, hour), 0) + count
    return [(*key, count) for key, count in sums.items()]


def _is_whole(rows: Rows) -> bool:
    """Whether the content is that of messages which come with all of it."""
    return not any(row[0] & PORTIONS for row in rows.content)


def _note_growing(connection: sqlite3.Connection, rows: Rows) -> None:
    """Keep in mind whose content has begun to come, until its message is there or it is dropped."""
    ids = {row[0] >> PORTION_BITS for row in rows.content}
    whole = {row[0] for row in rows.messages}
    connection.executemany("INSERT OR IGNORE INTO growing VALUES (?)", [(id,) for id in ids - whole])
    connection.executemany("DELETE FROM growing WHERE message = ?", [(id,) for id in whole.union(rows.dropped)])


def want(connection: sqlite3.Connection, wanted: Sequence[Wanted]) -> list[int]:
    """Note what is wanted, for the server to do; the numbers it got. Their own numbers count for nothing."""
    connection.execute("BEGIN IMMEDIATE")
    numbers = []
    for one in wanted:
        row = (one.at, one.who, one.action.value, one.message, one.recipient, one.target)
        numbers.append(connection.execute("INSERT INTO wanted VALUES (NULL, ?, ?, ?, ?, ?, ?)", row).lastrowid or 0)
    connection.execute("COMMIT")
    return numbers


def _insert(table: str, columns: int) -> str:
    return f"INSERT INTO {table} VALUES ({','.join('?' * columns)})"


_INSERT_MESSAGE = _insert("message", len(Message._fields))
_INSERT_FOLDED = _insert("folded", len(Message._fields) + 5)
_IN = f"IN ({','.join('?' * SEVERAL)})"
_UNFOLD_MESSAGE = f"INSERT INTO message SELECT * FROM folded_message WHERE id {_IN}"
_UNFOLD_RECIPIENT = f"INSERT INTO recipient SELECT * FROM folded_recipient WHERE message {_IN}"
_UNFOLD_CONTENT = f"INSERT INTO content SELECT id << {PORTION_BITS}, segment, start, size FROM folded WHERE id {_IN}"
_FORGET_FOLDED = f"DELETE FROM folded WHERE id {_IN}"
_INSERT_CONTENT = _insert("content", 4)
_FORGET_CONTENT = "DELETE FROM content WHERE place = ?"  # of a message that is a single portion
_FORGET_UNWANTED = (  # when nobody may want it any more
    "DELETE FROM content WHERE place BETWEEN ?1 AND ?2 AND NOT EXISTS"
    " (SELECT 1 FROM recipient WHERE message = ?3 AND state IN ('queued', 'delayed', 'parked', 'failed'))"
)
_STOP_LANE = f"INSERT OR REPLACE INTO lane VALUES ({','.join('?' * len(LaneStop._fields))})"
# What was noted later than the clock showed was computed by another clock: it stays as it is.
_SHIFT = (
    "UPDATE recipient SET next_try = next_try + ?1 WHERE state = 'delayed' AND changed <= ?2",
    "UPDATE message SET expires = expires + ?1 WHERE arrived <= ?2 AND id IN"
    " (SELECT message FROM recipient WHERE state IN ('queued', 'delayed', 'parked', 'failed'))",
    "UPDATE folded SET expires = expires + ?1 WHERE arrived <= ?2",
    "UPDATE lane SET since = since + ?1, until = until + ?1, at = at + ?1 WHERE at <= ?2",
)
_ADD_TAKEN = "INSERT INTO taken VALUES (?, ?, ?) ON CONFLICT (who, hour) DO UPDATE SET count = count + excluded.count"
_INSERT_RECIPIENT = _insert("recipient", len(Recipient._fields))
_INSERT_ATTEMPT = _insert("attempt", len(Attempt._fields))
_INSERT_JOURNAL = _insert("journal", 5)
_UPDATE_RECIPIENT = (
    "UPDATE recipient SET state = ?, attempts = ?, next_try = ?, connector = ?, reply = ?, changed = ?,"
    " next_hop = ?"
    " WHERE message = ? AND number = ?"
)


def _json(value: Any) -> str | None:
    return None if value is None else _dumps(value)


def place(message: int, portion: int) -> int:
    """Where a portion of a message's content stands."""
    return message << PORTION_BITS | portion


def _places(message: int) -> tuple[int, int]:
    return place(message, 0), place(message + 1, 0) - 1


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


# --- rows -----------------------------------------------------------------------------------------------------------


# `_value_` is what an enum documents for this; `value` goes through a descriptor written in Python.
_recipient_row = attrgetter(
    "message", "number", "address", "state._value_", "attempts", "next_try", "connector", "reply", "changed", "asked",
    "next_hop", "via",
)  # fmt: skip
_outcome_row = attrgetter(
    "state._value_", "attempts", "next_try", "connector", "reply", "at", "next_hop", "message", "number"
)  # in the order of the statement


def _connector_row(attempt: Attempt) -> Row | None:
    """What an attempt says about its connector: its name, when, and the failure's text, None for a success."""
    if attempt.facts.get("relayed"):
        return attempt.connector, attempt.at, None
    if attempt.connector and attempt.cause not in FINAL_CAUSES and _speaks_of_the_session(attempt):
        return attempt.connector, attempt.at, attempt.text
    return None


def _speaks_of_the_session(attempt: Attempt) -> bool:
    """Whether a failure is the connector's, and not that of one message or recipient."""
    return attempt.stage not in MESSAGE_STAGES or attempt.code == 421 or attempt.cause in BROKEN_CAUSES


def _journal_row(entry: JournalEntry) -> Row:
    return None, entry.at, entry.event.value, entry.message, entry.facts
