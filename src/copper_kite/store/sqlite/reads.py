"""The queries of the running server."""

from __future__ import annotations

import contextlib
import heapq
import json
import sqlite3
from collections.abc import Collection, Iterator, Sequence
from contextlib import closing, contextmanager
from itertools import islice
from operator import itemgetter
from pathlib import Path
from typing import Any, Self

from copper_kite.errors import ContentUnreadable, NotFound
from copper_kite.store.ids import id_at, id_text
from copper_kite.store.model import (
    AdminRequest,
    CountFilter,
    Due,
    HourlyCount,
    JournalEntry,
    LaneStop,
    Message,
    Recipient,
    Selection,
    Tally,
    Waiting,
)
from copper_kite.store.shared.counting import MINUTE
from copper_kite.store.shared.encoding import PORTION_BITS, PORTIONS, place
from copper_kite.store.shared.rows import (
    MESSAGE_COLUMNS,
    RECIPIENT_COLUMNS,
    message_of_row,
    recipient_of_row,
)
from copper_kite.store.sqlite.kinds.hourly import recount
from copper_kite.store.sqlite.schema import connect_reader
from copper_kite.store.sqlite.segments import Extents, segment_sizes
from copper_kite.store.sqlite.selecting import KEPT, OPEN_SQL, condition, sources
from copper_kite.store.sqlite.stopped import NONE_STOPPED, SqliteStoppedLanes
from copper_kite.words import Action, Event, State

__all__ = ["SqliteReads"]

AT_A_TIME = 500  # messages in one question
SMALL = 256 * 1024  # octets of a message that is read at once
WORTH_CLEARING = 8 * 1024 * 1024  # octets of a file

_CONTENT = f"SELECT place, segment, size FROM content UNION ALL SELECT id << {PORTION_BITS}, segment, size FROM compact"
_EXTENT = (
    "SELECT segment, start, size FROM content WHERE place = ?1 UNION ALL SELECT segment, start, size FROM compact"
    f" WHERE id = ?1 >> {PORTION_BITS} AND ?1 & {PORTIONS} = 0"
)
_WAITING = (
    "SELECT r.message, r.number, r.address, r.connector, r.via, r.next_try, m.reverse_path, m.arrived, m.expires,"
    " coalesce(nullif(m.user, ''), m.client), m.priority FROM {} CROSS JOIN message m ON m.id = r.message WHERE {}"
)
_COMPACT_WAITING = (
    "SELECT m.id, 1, m.address, m.connector, '', m.arrived, m.reverse_path, m.arrived, m.expires,"
    " coalesce(nullif(m.user, ''), m.client), m.priority FROM compact m WHERE {}"
)


class SqliteReads:
    """A `store.contract.ServerReads` of one data folder."""

    slot: int | None = None

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._connection = connect_reader(folder)

    def close(self) -> None:
        self._connection.close()

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def _rows(self, sql: str, *values: Any) -> sqlite3.Cursor:
        return self._connection.execute(sql, values)

    @contextmanager
    def _at_once(self) -> Iterator[None]:
        """Several looks at one state of the database: a message that is expanded meanwhile is found once."""
        self._connection.execute("BEGIN")
        try:
            yield
        finally:
            self._connection.execute("COMMIT")

    def adopt(self, limit: int, *, from_dead: bool = True) -> list[int]:
        return []  # there is no other server

    def exchange(self, waiting: int) -> list[tuple[int, int]]:
        return []

    def reserve(self, connector: str, allowance: str, since: float, most: int, count: int) -> int | None:
        return None

    # --- for the running server ---------------------------------------------------------------------------------

    def last_id(self) -> int:
        row = self._rows(
            "SELECT max((SELECT coalesce(max(id), 0) FROM message), (SELECT coalesce(max(id), 0) FROM compact),"
            " (SELECT coalesce(max(id), 0) FROM attempt))"
        ).fetchone()
        return int(row[0])

    def queued(self, after: int, until: int, limit: int) -> list[Waiting]:
        with self._at_once():
            compact = self._rows(_COMPACT_WAITING.format("m.id > ? AND m.id <= ? ORDER BY m.id"), after, until)
            settled = self._rows(
                _WAITING.format(f"{KEPT}", "c.place >= ? AND c.place < ? AND r.state = 'queued' ORDER BY c.place"),
                place(after + 1, 0),
                place(until + 1, 0),
            )
            with closing(compact), closing(settled):
                results: list[Waiting] = []
                for row in heapq.merge(compact, settled, key=itemgetter(0)):
                    if len(results) >= limit and row[0] != results[-1].message:
                        break
                    results.append(Waiting._make(row))
                return results

    def delayed(self, after: tuple[float, int, int], until: float, limit: int) -> list[Waiting]:
        condition = (
            "r.state = 'delayed' AND (r.next_try, r.message, r.number) > (?, ?, ?) AND r.next_try <= ?"
            " ORDER BY r.next_try, r.message, r.number LIMIT ?"
        )
        return [
            Waiting._make(row) for row in self._rows(_WAITING.format("recipient r", condition), *after, until, limit)
        ]

    def waiting(self, ids: Sequence[int], until: float) -> list[Waiting]:
        some = _places(ids)
        due = f"r.message IN ({some}) AND (r.state = 'queued' OR r.state = 'delayed' AND r.next_try <= ?)"
        with self._at_once():
            rows = [
                *self._rows(_COMPACT_WAITING.format(f"m.id IN ({some})"), *ids),
                *self._rows(_WAITING.format("recipient r", due), *ids, until),
            ]
        return [Waiting._make(row) for row in sorted(rows, key=itemgetter(0, 1))]

    def ages(self, after: int, limit: int) -> list[tuple[int, float, float]]:
        rows = self._rows(
            f"SELECT id, arrived, expires FROM (SELECT * FROM (SELECT m.id, m.arrived, m.expires FROM content c"
            f" CROSS JOIN message m ON m.id = c.place >> {PORTION_BITS}"
            f" WHERE c.place >= ?1 AND c.place & {PORTIONS} = 0 ORDER BY c.place LIMIT ?3)"
            " UNION ALL SELECT * FROM"
            " (SELECT id, arrived, expires FROM compact WHERE id > ?2 ORDER BY id LIMIT ?3)) ORDER BY 1 LIMIT ?3",
            place(after + 1, 0),
            after,
            limit,
        )
        return list(rows)

    def due(self, ids: Sequence[int], until: float, octets: int = 0) -> list[Due]:
        with self._at_once():
            due: list[Due] = []
            for start in range(0, len(ids), AT_A_TIME):
                some = self._due_of(ids[start : start + AT_A_TIME], until)
                octets = self._add_content(some, octets)
                due += some
            return due

    def _due_of(self, ids: Sequence[int], until: float) -> list[Due]:
        results: dict[int, Due] = {}
        selection = Selection(ids=ids, states=(State.QUEUED, State.DELAYED))
        width = len(Message._fields)
        for row in self._selected(selection):
            recipient = recipient_of_row(row[width:])
            if recipient.state is State.QUEUED or (recipient.next_try or until) <= until:
                if (due := results.get(row[0])) is None:
                    due = results[row[0]] = Due(message_of_row(row[:width]), [])
                due.recipients.append(recipient)
        return [results[id] for id in ids if id in results]

    def _add_content(self, dues: Sequence[Due], octets: int) -> int:
        """Read what fits into `octets` of small messages; how many are left. What cannot be read is left for later."""
        wanted = {place(due.message.id, 0): due for due in dues if due.message.size <= min(octets, SMALL)}
        rows = self._rows(
            f"SELECT place, segment, start, size FROM content WHERE place IN ({_places(wanted)}) UNION ALL"
            f" SELECT id << {PORTION_BITS}, segment, start, size FROM compact WHERE id IN ({_places(wanted)})",
            *wanted,
            *(where >> PORTION_BITS for where in wanted),
        )
        with Extents(self._folder) as extents:
            for where, segment, start, size in rows:
                due = wanted[where]
                if size == due.message.size <= octets:
                    with contextlib.suppress(OSError):
                        due.content = extents.read(segment, start, size)
                        octets -= size
        return octets

    def next_due(self, after: float) -> float | None:
        row = self._rows(
            "SELECT min(next_try) FROM recipient WHERE state = 'delayed' AND next_try > ?", after
        ).fetchone()
        return None if row[0] is None else float(row[0])

    def lanes(self) -> list[LaneStop]:
        return [LaneStop(*row) for row in self._rows("SELECT * FROM lane")]

    def relayed_since(self, connector: str, since: float) -> int:
        row = self._rows(
            "SELECT count(*) FROM recipient WHERE state = 'relayed' AND connector = ? AND changed >= ?",
            connector,
            since,
        ).fetchone()
        return int(row[0])

    def taken(self, who: str, since: int) -> list[tuple[int, int]]:
        return list(self._rows("SELECT hour, count FROM taken WHERE who = ? AND hour >= ?", who, since))

    def hourly(self, since: int, until: int) -> Iterator[HourlyCount]:
        return map(HourlyCount._make, self._rows("SELECT * FROM hourly WHERE hour >= ? AND hour < ?", since, until))

    def summed_counts(
        self, since: int, until: int, by: Sequence[str], only: CountFilter | None = None, outcome: str = ""
    ) -> list[tuple[Any, ...]]:
        assert set(by) <= set(HourlyCount._fields), by
        connector, who, domain = only or CountFilter()
        conditions: list[tuple[str, Any]] = [("hour >= ?", since), ("hour < ?", until)]
        conditions += [(f"{name} = ?", value) for name, value in
                       (("outcome", outcome), ("connector", connector), ("who", who)) if value]  # fmt: skip
        if domain:
            below = domain.startswith("*.")
            pattern = "%" + "".join(f"\\{char}" if char in "%_\\" else char for char in domain[1:])
            conditions.append(("domain LIKE ? ESCAPE '\\'", pattern) if below else ("domain = ?", domain))
        where, columns = " AND ".join(condition for condition, _ in conditions), ", ".join(by)
        return list(
            self._rows(
                f"SELECT {columns}, sum(recipients), sum(octets) FROM hourly WHERE {where} GROUP BY {columns}",
                *(value for _, value in conditions),
            )
        )

    def recounted(self, since: int, until: int) -> Iterator[HourlyCount]:
        with self._at_once():
            return recount(self._connection, since, until)

    def tallies(self, since: float) -> list[Tally]:
        rows = self._rows("SELECT minute, connector, outcome, count FROM tally WHERE minute >= ?", int(since) // MINUTE)
        return list(map(Tally._make, rows))

    def noted(self, event: Event, since: float) -> list[JournalEntry]:
        rows = self._rows(  # the event stands in the statement so that the index of some can be used
            f"SELECT at, event, message, facts FROM journal WHERE event = '{event.value}' AND at >= ? ORDER BY at",
            since,
        )
        return [JournalEntry(at=at, event=Event(event), message=m, facts=json.loads(f)) for at, event, m, f in rows]

    def stops(self, since: float) -> list[tuple[float, float]]:
        rows = self._rows(
            "SELECT at, event FROM journal WHERE event IN ('started', 'stopped') AND at >= ? ORDER BY at", since
        ).fetchall()
        stops: list[tuple[float, float]] = []
        before: float | None = None
        for at, event in rows:
            if event == Event.STARTED and at > since:
                stops.append((self._last_sign(at) if before is None else before, at))
            before = at if event == Event.STOPPED else None
        return stops

    def _last_sign(self, until: float) -> float:
        row = self._rows(
            "SELECT max(coalesce((SELECT at + seconds FROM attempt WHERE id < ?1 ORDER BY id DESC LIMIT 1), 0),"
            " coalesce((SELECT arrived FROM message WHERE id < ?1 ORDER BY id DESC LIMIT 1), 0),"
            " coalesce((SELECT arrived FROM compact WHERE id < ?1 ORDER BY id DESC LIMIT 1), 0))",
            id_at(until),
        ).fetchone()
        return min(float(row[0]), until) if row[0] else until

    def content(self, message: int) -> Iterator[bytes]:
        portion = 0
        while True:
            octets = self._portion(place(message, portion))
            if octets is None:
                return
            yield octets
            portion += 1

    def _portion(self, place: int) -> bytes | None:
        """The octets of one portion, which may be moved between the lookup of its place and the read."""
        result = None
        while row := self._rows(_EXTENT, place).fetchone():
            try:
                with Extents(self._folder) as extents:
                    return extents.read(*row)
            except OSError as error:
                if row == result or not isinstance(error, FileNotFoundError):
                    raise ContentUnreadable(place >> PORTION_BITS, str(error)) from error
                result = row
        return None

    def stray_content(self) -> list[int]:
        return [id for (id,) in self._rows("SELECT message FROM growing")]

    def admin_requests(self) -> list[AdminRequest]:
        rows = self._rows("SELECT * FROM wanted ORDER BY number")
        return [AdminRequest(number, at, who, Action(action), *rest) for number, at, who, action, *rest in rows]

    def failed_between(self, after: tuple[float, int, int], until: float, limit: int) -> list[tuple[float, int, int]]:
        return list(
            self._rows(
                "SELECT changed, message, number FROM recipient WHERE state = 'failed'"
                " AND (changed, message, number) > (?, ?, ?) AND changed <= ? ORDER BY 1, 2, 3 LIMIT ?",
                *after,
                until,
                limit,
            )
        )

    def has_ended(self, message: int, before: float) -> bool:
        row = self._rows(
            f"SELECT 1 FROM recipient WHERE message = ?1 AND ({OPEN_SQL} OR changed > ?2)"
            " UNION ALL SELECT 1 FROM compact WHERE id = ?1 LIMIT 1",
            message,
            before,
        ).fetchone()
        return row is None

    def forgettable(self, before: float, limit: int) -> list[int]:
        rows = self._rows(
            "SELECT id FROM message m WHERE id < ? AND NOT EXISTS (SELECT 1 FROM recipient r WHERE r.message = m.id"
            f" AND (r.{OPEN_SQL} OR r.changed > ?)) ORDER BY id LIMIT ?",
            id_at(before),
            before,
            limit,
        )
        return [id for (id,) in rows]

    def size(self) -> int:
        pages, free, each = (
            self._rows(f"PRAGMA {name}").fetchone()[0] for name in ("page_count", "freelist_count", "page_size")
        )
        content = self._rows(f"SELECT coalesce(sum(size), 0) FROM ({_CONTENT})").fetchone()[0]
        return int((pages - free) * each + content)

    def scattered(self, most: int) -> list[tuple[int, int, bytes]]:
        results: list[tuple[int, int, bytes]] = []
        held = dict(self._rows(f"SELECT segment, sum(size) FROM ({_CONTENT}) GROUP BY segment"))
        for segment, octets in segment_sizes(self._folder)[:-1]:  # the last one may be at work
            if octets < WORTH_CLEARING or not 0 < held.get(segment, 0) < octets // 4:
                continue
            rows = self._rows(f"SELECT place, size FROM ({_CONTENT}) WHERE segment = ?", segment)
            for where, size in rows.fetchall():
                if most < 0:
                    return results
                portion = self._portion(where)
                if portion is not None:
                    most -= size
                    results.append((where >> PORTION_BITS, where & PORTIONS, portion))
        return results

    def recipients(self, id: int) -> tuple[Message, list[Recipient]]:
        rows = self._rows(
            f"SELECT {RECIPIENT_COLUMNS} FROM recipient r WHERE r.message = ?1"
            f" UNION ALL SELECT {RECIPIENT_COLUMNS} FROM compact_recipient r WHERE r.message = ?1",
            id,
        )
        return self._message(id), [recipient_of_row(row) for row in rows]

    def _selected(
        self, selection: Selection, limit: int = -1, *, newest: bool = False, stopped: SqliteStoppedLanes = NONE_STOPPED
    ) -> Iterator[Sequence[Any]]:
        """The columns of the recipients meant, and of their messages before them."""
        where, values = condition(selection, stopped=stopped)
        statement = (
            f"SELECT {MESSAGE_COLUMNS}, {RECIPIENT_COLUMNS} FROM {{recipients}} JOIN {{message}} m ON m.id = r.message"
            f" WHERE {where} ORDER BY {{id}} {'DESC' if newest else 'ASC'}, r.number LIMIT ?"
        )
        places = sources(selection, stopped=stopped)
        rows = [self._rows(statement.format_map(names), *values, limit) for names in places]
        merged = heapq.merge(*rows, key=itemgetter(0), reverse=newest)
        return merged if limit < 0 else islice(merged, limit)

    def _message(self, id: int) -> Message:
        row = self._rows(
            f"SELECT {MESSAGE_COLUMNS} FROM message m WHERE m.id = ?1"
            f" UNION ALL SELECT {MESSAGE_COLUMNS} FROM compact_message m WHERE m.id = ?1",
            id,
        ).fetchone()
        if row is None:
            raise NotFound(id_text(id))
        return message_of_row(row)


def _places(values: Collection[object]) -> str:
    """Placeholders for as many values in a statement."""
    return ",".join("?" * len(values))
