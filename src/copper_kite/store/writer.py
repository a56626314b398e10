"""The one thread that writes: whatever waits is committed in one transaction, and only then are the senders answered.

While a commit is on its way to the disk, new changes gather; the next commit takes them all. So the cost of reaching
stable storage is shared by everybody who waits for it, and nobody is answered before it.
"""

from __future__ import annotations

import json
import sqlite3
import threading
from collections.abc import Callable, Sequence
from functools import lru_cache, partial
from itertools import chain
from queue import SimpleQueue
from typing import Any

from copper_kite.errors import KiteError, StoreFailed, StoreFull
from copper_kite.store.model import Attempt, Change, JournalEntry, Message, Outcome, Recipient
from copper_kite.store.schema import PORTION_BITS
from copper_kite.words import FINAL, Event

__all__ = ["Done", "GroupWriter", "Notify", "write_changes"]

Done = Callable[[KiteError | None], None]
Settled = list[tuple[Done, KiteError | None]]
Notify = Callable[[Settled], None]

MAX_BATCH = 1000  # changes in one transaction
MAX_ROWS = 64  # in one statement

_dumps = json.JSONEncoder(separators=(",", ":"), ensure_ascii=False).encode


class GroupWriter:
    """Takes changes from any thread; commits them in order, many at a time.

    `notify` is called from the writer's thread, once for each commit, with every `done` and its error (None when the
    change is on stable storage). A change that fails leaves nothing behind and does not touch its neighbours.
    """

    def __init__(self, connection: sqlite3.Connection, notify: Notify) -> None:
        self._connection = connection
        self._notify = notify
        self._waiting: SimpleQueue[tuple[Change, Done] | None] = SimpleQueue()
        self._thread = threading.Thread(target=self._run, name="store-writer", daemon=True)
        self._thread.start()

    def submit(self, change: Change, done: Done) -> None:
        """Have `change` written; `done(None)` comes when it is on stable storage, `done(error)` when it is not."""
        self._waiting.put((change, done))

    def close(self) -> None:
        """Write what waits, then stop and close the connection. Further changes are not taken."""
        self._waiting.put(None)
        self._thread.join()
        self._connection.close()

    def _run(self) -> None:
        while (first := self._waiting.get()) is not None:
            batch = [first]
            while len(batch) < MAX_BATCH and not self._waiting.empty():
                more = self._waiting.get()
                if more is None:
                    self._waiting.put(None)
                    break
                batch.append(more)
            self._notify(self._settle(batch))

    def _settle(self, batch: list[tuple[Change, Done]]) -> Settled:
        error = self._try([change for change, _ in batch])
        if error is None or len(batch) == 1:
            return [(done, error) for _, done in batch]
        return [(done, self._try([change])) for change, done in batch]

    def _try(self, changes: list[Change]) -> KiteError | None:
        try:
            write_changes(self._connection, changes)
        except sqlite3.Error as error:
            if self._connection.in_transaction:
                self._connection.execute("ROLLBACK")
            full = getattr(error, "sqlite_errorcode", None) == sqlite3.SQLITE_FULL
            return (StoreFull if full else StoreFailed)(str(error))
        return None


def write_changes(connection: sqlite3.Connection, changes: Sequence[Change]) -> None:
    """Write all `changes` in one transaction, on stable storage on return. Raises sqlite3.Error, leaving it open."""
    connection.execute("BEGIN IMMEDIATE")
    many = connection.executemany
    add = partial(_insert, connection)
    if messages := [_message_row(message) for change in changes for message in change.messages]:
        add("message", messages)
    if content := [(place(*key), octets) for change in changes for *key, octets in change.content]:
        add("content", content)
    if recipients := [_recipient_row(*pair) for change in changes for pair in change.recipients]:
        add("recipient", recipients)
    if outcomes := [_outcome_row(change.at, *pair) for change in changes for pair in change.outcomes]:
        many(
            "UPDATE recipient SET state = ?, attempts = ?, next_try = ?, connector = ?, reply = ?, changed = ?"
            " WHERE message = ? AND number = ?",
            outcomes,
        )
    attempts = [attempt for change in changes for attempt in change.attempts]
    if attempts:
        add("attempt", [_attempt_row(attempt) for attempt in attempts])
        _note_connectors(connection, attempts)
    if journal := [_journal_row(entry) for change in changes for entry in change.journal]:
        add("journal", journal)
    if ended := {id for change in changes for id, outcome in change.outcomes if outcome.state in FINAL}:
        many(
            "DELETE FROM content WHERE place BETWEEN ?1 AND ?2 AND NOT EXISTS"
            " (SELECT 1 FROM recipient WHERE message = ?3 AND state IN ('queued', 'delayed', 'parked'))",
            [(*_places(id), id) for id in ended],
        )
    if dropped := [_places(id) for change in changes for id in change.dropped]:
        many("DELETE FROM content WHERE place BETWEEN ? AND ?", dropped)
    connection.execute("COMMIT")


@lru_cache(maxsize=1024)
def _insert_statement(table: str, columns: int, rows: int) -> str:
    row = f"({','.join('?' * columns)})"
    return f"INSERT INTO {table} VALUES {','.join([row] * rows)}"


def _insert(connection: sqlite3.Connection, table: str, rows: list[tuple[Any, ...]]) -> None:
    """Insert `rows`, many with one statement.

    A thread gives up the interpreter for each statement it steps, and gets it back only when the loop's thread lets
    go: so the number of statements is what a commit costs in waiting.
    """
    for start in range(0, len(rows), MAX_ROWS):
        group = rows[start : start + MAX_ROWS]
        connection.execute(_insert_statement(table, len(group[0]), len(group)), tuple(chain.from_iterable(group)))


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
        elif attempt.connector:
            bad[attempt.connector] = (attempt.at, attempt.text)
    for name in good.keys() | bad.keys():
        at, text = bad.get(name, (None, ""))
        connection.execute(
            "INSERT INTO connector VALUES (?1, ?2, ?3, ?4) ON CONFLICT (name) DO UPDATE SET"
            " last_good = coalesce(?2, last_good), last_bad = coalesce(?3, last_bad),"
            " last_bad_text = iif(?3 IS NULL, last_bad_text, ?4)",
            (name, good.get(name), at, text),
        )


def _message_row(message: Message) -> tuple[Any, ...]:
    return (
        message.id,
        message.arrived,
        message.expires,
        message.reverse_path,
        message.size,
        message.eight_bit,
        message.utf8,
        message.message_id,
        message.listener,
        message.client,
        message.hello,
        message.user,
        message.protocol,
    )


def _recipient_row(message: int, recipient: Recipient) -> tuple[Any, ...]:
    return (
        message,
        recipient.number,
        recipient.address,
        recipient.state.value,
        recipient.attempts,
        recipient.next_try,
        recipient.connector,
        recipient.reply,
        recipient.changed,
    )


def _outcome_row(at: float, message: int, outcome: Outcome) -> tuple[Any, ...]:
    return (
        outcome.state.value,
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
