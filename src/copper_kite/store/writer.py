"""Group commit: whatever waits goes into one transaction, and only when that is on the disk are the senders answered.

While a commit is on its way to the disk, new changes gather; the next transaction takes them all. So the cost of
reaching stable storage is shared by everybody who waits for it, and nobody is answered before it.

The statements run in the loop's thread and the commit, which is what takes time, in a thread of its own: one that ran
the statements too would have to win the interpreter back from a busy loop for each of them.
"""

from __future__ import annotations

import json
import sqlite3
import threading
from collections.abc import Callable, Sequence
from functools import lru_cache, partial
from itertools import chain
from operator import attrgetter
from queue import SimpleQueue
from typing import Any

from copper_kite.errors import KiteError, StoreFailed, StoreFull
from copper_kite.store.model import Attempt, Change, JournalEntry, Outcome, Recipient
from copper_kite.store.schema import PORTION_BITS
from copper_kite.words import FINAL, MESSAGE_STAGES, Cause, Event, State

__all__ = ["Done", "GroupWriter", "place"]

Done = Callable[[KiteError | None], None]
Defer = Callable[[Callable[[], None]], object]

MAX_BATCH = 500  # changes in one transaction
MAX_ROWS = 64  # in one statement

_dumps = json.JSONEncoder(separators=(",", ":"), ensure_ascii=False).encode


class GroupWriter:
    """Takes changes from one thread, the loop's; commits them in order, many at a time.

    `defer` has a function called soon in the loop's thread, and may be called from any thread. A change that fails
    leaves nothing behind and does not touch its neighbours.
    """

    def __init__(self, connection: sqlite3.Connection, defer: Defer) -> None:
        self._connection = connection
        self._defer = defer
        self._waiting: list[tuple[Change, Done]] = []
        self._batch: list[tuple[Done, KiteError | None]] = []  # filled, its commit on the way
        self._scheduled = False
        self._commits: SimpleQueue[bool] = SimpleQueue()
        self._thread = threading.Thread(target=self._commit_on_demand, name="store-commit", daemon=True)
        self._thread.start()

    def submit(self, change: Change, done: Done) -> None:
        """Have `change` written; `done(None)` comes when it is on stable storage, `done(error)` when it is not."""
        self._waiting.append((change, done))
        if not self._batch and not self._scheduled:
            self._scheduled = True
            self._defer(self._begin)  # so that all that the loop does in this turn goes together

    def close(self) -> None:
        """Write what waits, then stop and close the connection. Further changes are not taken."""
        self._commits.put(False)
        self._thread.join()
        _settle(self._batch, self._commit())
        while self._waiting:
            self._fill()
            _settle(self._batch, self._commit())
        self._connection.close()

    def _begin(self) -> None:
        self._scheduled = False
        if self._waiting and not self._batch:
            self._fill()
            self._commits.put(True)

    def _fill(self) -> None:
        """Put what waits into a transaction; each change with the error that kept it out, if one did."""
        taken, self._waiting = self._waiting[:MAX_BATCH], self._waiting[MAX_BATCH:]
        changes = [change for change, _ in taken]
        try:
            self._connection.execute("BEGIN IMMEDIATE")
            write_changes(self._connection, changes)
            errors: list[KiteError | None] = [None] * len(changes)
        except sqlite3.Error:
            self._roll_back()
            errors = self._fill_singly(changes)
        self._batch = [(done, error) for (_, done), error in zip(taken, errors, strict=True)]

    def _fill_singly(self, changes: list[Change]) -> list[KiteError | None]:
        """Leave out the changes that fail, so that none of them takes another with it.

        An error may undo the whole transaction, what went before it included (a full disk does): so each time, those
        that are left begin anew. When the disk is full, what comes behind is not tried either.
        """
        errors: list[KiteError | None] = [None] * len(changes)
        while any(error is None for error in errors):
            failed = self._fill_until_one_fails(changes, errors)
            if failed is None:
                break
            self._roll_back()
            number, error = failed
            errors[number] = error
            if isinstance(error, StoreFull):
                errors[number + 1 :] = [later or error for later in errors[number + 1 :]]
        return errors

    def _fill_until_one_fails(
        self, changes: list[Change], errors: Sequence[KiteError | None]
    ) -> tuple[int, KiteError] | None:
        number = 0
        try:
            self._connection.execute("BEGIN IMMEDIATE")
            for number, change in enumerate(changes):
                if errors[number] is None:
                    write_changes(self._connection, [change])
        except sqlite3.Error as error:
            return number, _store_error(error)
        return None

    def _commit_on_demand(self) -> None:
        """The thread: each commit, then word of it to the loop's thread."""
        while self._commits.get():
            error = self._commit()
            self._defer(partial(self._committed, error))

    def _commit(self) -> KiteError | None:
        try:
            if self._connection.in_transaction:
                self._connection.execute("COMMIT")
        except sqlite3.Error as error:
            self._roll_back()
            return _store_error(error)
        return None

    def _committed(self, failure: KiteError | None) -> None:
        batch, self._batch = self._batch, []
        try:
            _settle(batch, failure)
        finally:
            self._begin()

    def _roll_back(self) -> None:
        if self._connection.in_transaction:
            self._connection.execute("ROLLBACK")


def _settle(batch: list[tuple[Done, KiteError | None]], failure: KiteError | None) -> None:
    """Tell everybody, also when telling one of them fails; raises what failed, at the end."""
    broken = []
    for done, error in batch:
        try:
            done(error or failure)
        except Exception as exception:
            broken.append(exception)
    if broken:
        raise ExceptionGroup("telling the outcome of a commit failed", broken)


def _store_error(error: sqlite3.Error) -> KiteError:
    full = getattr(error, "sqlite_errorcode", None) == sqlite3.SQLITE_FULL
    return (StoreFull if full else StoreFailed)(str(error))


def write_changes(connection: sqlite3.Connection, changes: Sequence[Change]) -> None:
    """Put all `changes` into the open transaction. Raises sqlite3.Error."""
    many = connection.executemany
    add = partial(_insert, connection)
    if messages := [_message_row(message) for change in changes for message in change.messages]:
        add("message", messages)
    if content := [(place(*key), octets) for change in changes for *key, octets in change.content]:
        add("content", content)
    if recipients := [_recipient_row(*pair) for change in changes for pair in change.recipients]:
        add("recipient", recipients)
    if outcomes := [_outcome_row(change.at, *pair) for change in changes for pair in change.outcomes]:
        _execute_grouped(connection, _update_statement, outcomes)
    attempts = [attempt for change in changes for attempt in change.attempts]
    if attempts:
        add("attempt", [_attempt_row(attempt) for attempt in attempts])
        _note_connectors(connection, attempts)
    if journal := [_journal_row(entry) for change in changes for entry in change.journal]:
        add("journal", journal)
    finished = [place(id, 0) for change in changes for id in change.finished]
    for start in range(0, len(finished), MAX_ROWS):
        group = finished[start : start + MAX_ROWS]
        connection.execute(f"DELETE FROM content WHERE place IN ({','.join('?' * len(group))})", group)
    if ended := {id for change in changes if not change.finished for id, outcome in change.outcomes if _final(outcome)}:
        many(
            "DELETE FROM content WHERE place BETWEEN ?1 AND ?2 AND NOT EXISTS"
            " (SELECT 1 FROM recipient WHERE message = ?3 AND state IN ('queued', 'delayed', 'parked'))",
            [(*_places(id), id) for id in ended],
        )
    if dropped := [_places(id) for change in changes for id in change.dropped]:
        many("DELETE FROM content WHERE place BETWEEN ? AND ?", dropped)


def _speaks_of_the_session(attempt: Attempt) -> bool:
    """Whether a failure is the connector's, and not that of one message or recipient."""
    return (
        attempt.stage not in MESSAGE_STAGES
        or attempt.code == 421
        or attempt.cause in (Cause.LOST, Cause.TIMED_OUT, Cause.PROTOCOL)
    )


@lru_cache(maxsize=1024)
def _insert_statement(table: str, columns: int, rows: int) -> str:
    row = f"({','.join('?' * columns)})"
    return f"INSERT INTO {table} VALUES {','.join([row] * rows)}"


@lru_cache(maxsize=MAX_ROWS)
def _update_statement(columns: int, rows: int) -> str:
    row = f"({','.join('?' * columns)})"
    return (
        "UPDATE recipient SET state = v.column1, attempts = v.column2, next_try = v.column3, connector = v.column4,"
        " reply = v.column5, changed = v.column6"
        f" FROM (VALUES {','.join([row] * rows)}) AS v WHERE message = v.column7 AND number = v.column8"
    )


def _insert(connection: sqlite3.Connection, table: str, rows: list[tuple[Any, ...]]) -> None:
    _execute_grouped(connection, partial(_insert_statement, table), rows)


def _execute_grouped(
    connection: sqlite3.Connection, statement: Callable[[int, int], str], rows: list[tuple[Any, ...]]
) -> None:
    """Execute for all `rows`, many with one statement; `statement` makes it for (columns, rows)."""
    for start in range(0, len(rows), MAX_ROWS):
        group = rows[start : start + MAX_ROWS]
        connection.execute(statement(len(group[0]), len(group)), tuple(chain.from_iterable(group)))


def _final(outcome: Outcome) -> bool:
    return outcome.state in FINAL


def place(message: int, portion: int) -> int:
    """Where a portion of a message's content stands."""
    return message << PORTION_BITS | portion


def _places(message: int) -> tuple[int, int]:
    return place(message, 0), place(message + 1, 0) - 1


def _note_connectors(connection: sqlite3.Connection, attempts: Sequence[Attempt]) -> None:
    """Keep each connector's last success and failure, one row a connector and commit."""
    good: dict[str, float] = {}
    bad: dict[str, tuple[float, str]] = {}
    for attempt in attempts:
        if attempt.facts.get("relayed"):
            good[attempt.connector] = attempt.at
        elif attempt.connector and _speaks_of_the_session(attempt):
            bad[attempt.connector] = (attempt.at, attempt.text)
    for name in good.keys() | bad.keys():
        at, text = bad.get(name, (None, ""))
        connection.execute(
            "INSERT INTO connector VALUES (?1, ?2, ?3, ?4) ON CONFLICT (name) DO UPDATE SET"
            " last_good = coalesce(?2, last_good), last_bad = coalesce(?3, last_bad),"
            " last_bad_text = iif(?3 IS NULL, last_bad_text, ?4)",
            (name, good.get(name), at, text),
        )


_message_row = attrgetter(
    "id", "arrived", "expires", "reverse_path", "size", "eight_bit", "utf8", "message_id", "listener", "client",
    "hello", "user", "protocol",
)  # fmt: skip


def _recipient_row(message: int, recipient: Recipient) -> tuple[Any, ...]:
    return (
        message,
        recipient.number,
        recipient.address,
        _STATE_NAMES[recipient.state],
        recipient.attempts,
        recipient.next_try,
        recipient.connector,
        recipient.reply,
        recipient.changed,
    )


def _outcome_row(at: float, message: int, outcome: Outcome) -> tuple[Any, ...]:
    return (
        _STATE_NAMES[outcome.state],
        outcome.attempts,
        outcome.next_try,
        outcome.connector,
        outcome.reply,
        at,
        message,
        outcome.number,
    )


def _attempt_row(attempt: Attempt) -> tuple[Any, ...]:
    return (
        attempt.id,
        attempt.message,
        attempt.at,
        attempt.seconds,
        attempt.connector,
        attempt.next_hop,
        attempt.address,
        attempt.stage,
        attempt.side,
        attempt.cause,
        attempt.code,
        attempt.enhanced,
        attempt.text,
        _dumps(attempt.facts),
        None if attempt.dialogue is None else _dumps(attempt.dialogue),
    )


def _journal_row(entry: JournalEntry) -> tuple[Any, ...]:
    return None, entry.at, _EVENT_NAMES[entry.event], entry.message, _dumps(entry.facts)


_EVENT_NAMES = {event: event.value for event in Event}
_STATE_NAMES = {state: state.value for state in State}
