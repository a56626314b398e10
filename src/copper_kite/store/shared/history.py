"""Submissions, attempts and the journal in their order; for a period, or continuously."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from typing import Any, NamedTuple

from copper_kite.store.contract import Place
from copper_kite.store.ids import id_at, slot_of
from copper_kite.store.model import Happened, JournalEntry, Message
from copper_kite.store.shared.ordering import ended, in_order
from copper_kite.store.shared.rows import MESSAGE_COLUMNS, attempt_of_row, message_of_row
from copper_kite.words import Event

__all__ = ["Dialect", "EngineHistory"]

SETTLED = 900.0  # seconds: what began longer ago than the newest of its kind has been written by now
MAX_SEEN = 200_000  # ids kept in a place

Query = Callable[[str, dict[str, Any]], Iterable[tuple[Any, ...]]]  # a statement with `:name` for its values


class Dialect(NamedTuple):
    """What engines say differently. `messages` has `{where}`, which is on `m`; `message_ids` are those above `:floor`,
    the highest first, `:limit` at most; `within(a, b)` is not 0 where `b` is a part of `a`. Entries of the journal come
    in the order of their numbers, but for the last `unsettled`; `server` is the slot of the one that wrote an entry."""

    messages: str
    message_ids: str
    within: str
    unsettled: int = 0
    server: str = "0"


@dataclass(slots=True)
class SeenPlace:
    """A reader's position: the ids seen that are not settled yet; the number up to which all of the journal was seen,
    and the numbers above it that were."""

    messages: set[int] = field(default_factory=set)
    attempts: set[int] = field(default_factory=set)
    journal: int = 0
    entries: set[int] = field(default_factory=set)

    def export(self) -> dict[str, Any]:
        place: dict[str, Any] = {
            "messages": sorted(self.messages), "attempts": sorted(self.attempts), "journal": self.journal,
        }  # fmt: skip
        return place | ({"entries": sorted(self.entries)} if self.entries else {})


class EngineHistory:
    """A `store.contract.History` over an engine's tables."""

    def __init__(
        self,
        query: Query,
        dialect: Dialect,
        close: Callable[[], object],
        name_of: Callable[[int], str] = lambda slot: "",
    ) -> None:
        """`name_of` gives the name of the server in a slot, where several share the queue."""
        self._query = query
        self._dialect = dialect
        self._close = close
        self._name_of = name_of
        self._journal_rows = _JOURNAL.replace("{server}", dialect.server)

    def close(self) -> None:
        self._close()

    def between(self, since: float, until: float, word: str = "", message: int | None = None) -> Iterator[Happened]:
        ids = {"since": id_at(since), "until": id_at(until), "word": word}
        of_it = "" if message is None else f" AND m.id = {message:d}"
        within = self._dialect.within.format
        first = self._dialect.messages.format(
            where=f"m.id BETWEEN :since AND :until AND {within(_WORDS_OF_MESSAGE, ':word')} > 0{of_it}"
        )
        second = _ATTEMPTS.format(
            where=f"a.id BETWEEN :since AND :until AND {within(_WORDS_OF_ATTEMPT, ':word')} > 0{of_it}"
        )
        third = self._journal_rows.format(
            where=f"j.at BETWEEN :since AND :until AND {within('j.event || j.facts', ':word')} > 0{of_it}"
        )
        times = {"since": since, "until": until, "word": word}
        return in_order(
            self._messages(self._query(first, ids)),
            self._attempts(self._query(second, ids)),
            (happened for _, happened in self._journal(self._query(third, times))),
        )

    def place(self, value: dict[str, Any]) -> SeenPlace:
        messages, attempts = (set(map(int, value[name])) for name in ("messages", "attempts"))
        entries = set(map(int, value.get("entries", ())))
        return SeenPlace(messages, attempts, int(value["journal"]), entries)

    def now(self) -> SeenPlace:
        place = SeenPlace()
        self._new(self._dialect.message_ids, place.messages)
        self._new(_ATTEMPT_IDS, place.attempts)
        ((last,),) = self._query("SELECT coalesce(max(number), 0) FROM journal", {})
        floor = max(last - self._dialect.unsettled, 0)
        numbers = self._query("SELECT number FROM journal WHERE number > :floor", {"floor": floor})
        place.journal, place.entries = floor, {number for (number,) in numbers}
        return place

    def after(self, place: Place) -> list[Happened]:
        assert isinstance(place, SeenPlace)
        results: list[Happened] = []
        for id in self._new(self._dialect.message_ids, place.messages):
            results += self._messages(self._query(self._dialect.messages.format(where="m.id = :id"), {"id": id}))
        for id in self._new(_ATTEMPT_IDS, place.attempts):
            results += self._attempts(self._query(_ATTEMPTS.format(where="a.id = :id"), {"id": id}))
        rows = self._query(self._journal_rows.format(where="j.number > :number"), {"number": place.journal})
        last = place.journal
        for number, happened in self._journal(rows):
            last = max(last, number)
            if number not in place.entries:
                place.entries.add(number)
                results.append(happened)
        place.journal = max(place.journal, last - self._dialect.unsettled)
        place.entries = {number for number in place.entries if number > place.journal}
        results.sort(key=ended)
        return results

    def _new(self, ids: str, seen: set[int]) -> list[int]:
        """Ids that were not there before. They are written in another order than they are made in; what is long over
        is forgotten."""
        newest = list(self._query(ids, {"floor": 0, "limit": 1}))
        floor = max(newest[0][0] - id_at(SETTLED, of_span=True), 0) if newest else 0
        current = {id for (id,) in self._query(ids, {"floor": floor, "limit": MAX_SEEN})}
        new = sorted(current - seen)
        seen.clear()
        seen.update(current)
        return new

    def _messages(self, rows: Iterable[tuple[Any, ...]]) -> Iterator[Happened]:
        for row in rows:
            message = message_of_row(row)
            yield Happened(message, message, self._name_of(slot_of(message.id)))

    def _attempts(self, rows: Iterable[tuple[Any, ...]]) -> Iterator[Happened]:
        for row in rows:
            attempt, message = attempt_of_row(row[_WIDTH:]), None if row[0] is None else message_of_row(row[:_WIDTH])
            yield Happened(attempt, message, self._name_of(slot_of(attempt.id)))

    def _journal(self, rows: Iterable[tuple[Any, ...]]) -> Iterator[tuple[int, Happened]]:
        for row in rows:
            number, at, event, message, facts, server = row[_WIDTH:]
            entry = JournalEntry(at=at, event=Event(event), message=message, facts=json.loads(facts), server=server)
            about = None if row[0] is None else message_of_row(row[:_WIDTH])
            yield number, Happened(entry, about, self._name_of(server))


_ATTEMPT_IDS = "SELECT id FROM attempt WHERE id > :floor ORDER BY id DESC LIMIT :limit"
_ATTEMPTS = (
    f"SELECT {MESSAGE_COLUMNS}, a.* FROM attempt a"
    " LEFT JOIN message m ON m.id = a.message WHERE {where} ORDER BY a.id"
)
_JOURNAL = (
    f"SELECT {MESSAGE_COLUMNS}, j.number, j.at, j.event, j.message, j.facts, {{server}} FROM journal j"
    " LEFT JOIN message m ON m.id = j.message WHERE {where} ORDER BY j.at, j.number"
)
_WORDS_OF_MESSAGE = 'm.reverse_path || m.message_id || m.subject || m.client || m."user" || m.listener'
_WORDS_OF_ATTEMPT = (
    "a.facts || a.connector || a.next_hop || a.text || coalesce(m.reverse_path || m.message_id || m.subject, '')"
)
_WIDTH = len(Message._fields)
