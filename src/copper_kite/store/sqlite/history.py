"""Submissions, attempts and the journal in their order; for a period, or continuously."""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from copper_kite.store.contract import Place
from copper_kite.store.ids import id_at
from copper_kite.store.model import Happened, JournalEntry, Message
from copper_kite.store.shared.ordering import ended, in_order
from copper_kite.store.shared.rows import MESSAGE_COLUMNS, attempt_of_row, message_of_row
from copper_kite.store.sqlite.schema import connect_reader
from copper_kite.words import Event

__all__ = ["SqliteHistory"]

SETTLED = 900.0  # seconds: what began longer ago than the newest of its kind has been written by now
MAX_SEEN = 200_000  # ids kept in a place


@dataclass(slots=True)
class SqlitePlace:
    """A reader's position: the ids seen that are not settled yet, and the last number of the journal."""

    messages: set[int] = field(default_factory=set)
    attempts: set[int] = field(default_factory=set)
    journal: int = 0

    def export(self) -> dict[str, Any]:
        return {"messages": sorted(self.messages), "attempts": sorted(self.attempts), "journal": self.journal}


class SqliteHistory:
    """A `store.contract.History` of one data folder."""

    def __init__(self, folder: Path) -> None:
        self._connection = connect_reader(folder)

    def close(self) -> None:
        self._connection.close()

    def between(self, since: float, until: float, word: str = "", message: int | None = None) -> Iterator[Happened]:
        bounds = id_at(since), id_at(until)
        of_it = "" if message is None else f" AND m.id = {message:d}"
        first = _MESSAGES.format(where=f"m.id BETWEEN ?1 AND ?2 AND instr({_WORDS_OF_MESSAGE}, ?3){of_it}")
        second = _ATTEMPTS.format(where=f"a.id BETWEEN ? AND ? AND instr({_WORDS_OF_ATTEMPT}, ?){of_it}")
        third = _JOURNAL.format(where=f"j.at BETWEEN ? AND ? AND instr(j.event || j.facts, ?){of_it}")
        rows = self._connection.execute
        return in_order(
            _messages(rows(first, (*bounds, word))),
            _attempts(rows(second, (*bounds, word))),
            (happened for _, happened in _journal(rows(third, (since, until, word)))),
        )

    def place(self, value: dict[str, Any]) -> SqlitePlace:
        return SqlitePlace(set(map(int, value["messages"])), set(map(int, value["attempts"])), int(value["journal"]))

    def now(self) -> SqlitePlace:
        place = SqlitePlace()
        self._new(_MESSAGE_IDS, place.messages)
        self._new(_ATTEMPT_IDS, place.attempts)
        place.journal = int(self._connection.execute("SELECT coalesce(max(number), 0) FROM journal").fetchone()[0])
        return place

    def after(self, place: Place) -> list[Happened]:
        assert isinstance(place, SqlitePlace)
        rows = self._connection.execute
        results: list[Happened] = []
        for id in self._new(_MESSAGE_IDS, place.messages):
            results += _messages(rows(_MESSAGES.format(where="m.id = ?1"), (id,)))
        for id in self._new(_ATTEMPT_IDS, place.attempts):
            results += _attempts(rows(_ATTEMPTS.format(where="a.id = ?"), (id,)))
        for number, happened in _journal(rows(_JOURNAL.format(where="j.number > ?"), (place.journal,))):
            results.append(happened)
            place.journal = max(place.journal, number)
        results.sort(key=ended)
        return results

    def _new(self, ids: str, seen: set[int]) -> list[int]:
        """Ids that were not there before. They are written in another order than they are made in; what is long over
        is forgotten."""
        newest = self._connection.execute(ids, (0, 1)).fetchone()
        floor = max(newest[0] - id_at(SETTLED, of_span=True), 0) if newest else 0
        current = {id for (id,) in self._connection.execute(ids, (floor, MAX_SEEN))}
        new = sorted(current - seen)
        seen.clear()
        seen.update(current)
        return new


_MESSAGE_IDS = (
    "SELECT id FROM message WHERE id > ?1 UNION ALL SELECT id FROM compact WHERE id > ?1 ORDER BY id DESC LIMIT ?2"
)
_ATTEMPT_IDS = "SELECT id FROM attempt WHERE id > ?1 ORDER BY id DESC LIMIT ?2"
_MESSAGES = (
    f"SELECT {MESSAGE_COLUMNS} FROM message m WHERE {{where}}"
    f" UNION ALL SELECT {MESSAGE_COLUMNS} FROM compact_message m WHERE {{where}} ORDER BY 1"
)
_ATTEMPTS = (
    f"SELECT {MESSAGE_COLUMNS}, a.* FROM attempt a"
    " LEFT JOIN message m ON m.id = a.message WHERE {where} ORDER BY a.id"
)
_JOURNAL = (
    f"SELECT {MESSAGE_COLUMNS}, j.number, j.at, j.event, j.message, j.facts FROM journal j"
    " LEFT JOIN message m ON m.id = j.message WHERE {where} ORDER BY j.at, j.number"
)
_WORDS_OF_MESSAGE = "m.reverse_path || m.message_id || m.subject || m.client || m.user || m.listener"
_WORDS_OF_ATTEMPT = (
    "a.facts || a.connector || a.next_hop || a.text || coalesce(m.reverse_path || m.message_id || m.subject, '')"
)
_WIDTH = len(Message._fields)


def _messages(rows: Any) -> Iterator[Happened]:
    for row in rows:
        message = message_of_row(row)
        yield Happened(message, message)


def _attempts(rows: Any) -> Iterator[Happened]:
    for row in rows:
        yield Happened(attempt_of_row(row[_WIDTH:]), None if row[0] is None else message_of_row(row[:_WIDTH]))


def _journal(rows: Any) -> Iterator[tuple[int, Happened]]:
    for row in rows:
        number, at, event, message, facts = row[_WIDTH:]
        entry = JournalEntry(at=at, event=Event(event), message=message, facts=json.loads(facts))
        yield number, Happened(entry, None if row[0] is None else message_of_row(row[:_WIDTH]))
