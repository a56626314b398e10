"""Reading the queue and the journal, beside a running server or without one."""

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
from typing import Any

from copper_kite.errors import Ambiguous, ContentUnreadable, NotFound
from copper_kite.store.ids import id_at, id_range, id_text
from copper_kite.store.model import (
    ConnectorState,
    Due,
    JournalEntry,
    LaneStop,
    Message,
    QueueGroup,
    QueueRow,
    QueueShape,
    Recipient,
    Record,
    Selection,
    Waiting,
    Wanted,
)
from copper_kite.store.sqlite.commit import place
from copper_kite.store.sqlite.rows import (
    MESSAGE_COLUMNS,
    RECIPIENT_COLUMNS,
    attempt_of_row,
    message_of_row,
    recipient_of_row,
)
from copper_kite.store.sqlite.schema import PORTION_BITS, PORTIONS, connect_reader
from copper_kite.store.sqlite.segments import Extents, segment_sizes
from copper_kite.store.sqlite.selecting import KEPT, OPEN, OPEN_SQL, condition, sources
from copper_kite.store.sqlite.stopped import StoppedLanes, shown
from copper_kite.words import Action, Event, State

__all__ = ["Reader"]

AT_A_TIME = 500  # messages in one question
SMALL = 256 * 1024  # octets of a message that is read at once
WORTH_CLEARING = 8 * 1024 * 1024  # octets of a file

_CONTENT = f"SELECT place, segment, size FROM content UNION ALL SELECT id << {PORTION_BITS}, segment, size FROM folded"
_EXTENT = (
    "SELECT segment, start, size FROM content WHERE place = ?1 UNION ALL SELECT segment, start, size FROM folded"
    f" WHERE id = ?1 >> {PORTION_BITS} AND ?1 & {PORTIONS} = 0"
)
_WAITING = (
    "SELECT r.message, r.number, r.address, r.connector, r.via, r.next_try, m.reverse_path, m.arrived, m.expires,"
    " coalesce(nullif(m.user, ''), m.client), m.priority FROM {} CROSS JOIN message m ON m.id = r.message WHERE {}"
)
_FOLDED_WAITING = (
    "SELECT m.id, 1, m.address, m.connector, '', m.arrived, m.reverse_path, m.arrived, m.expires,"
    " coalesce(nullif(m.user, ''), m.client), m.priority FROM folded m WHERE {}"
)
_GROUPS = {
    "state": "r.state",
    "connector": "r.connector",
    "next hop": "r.next_hop",
    "reason": "reason(r.reply)",
    "domain": "lower(substr(r.address, instr(r.address, '@') + 1))",
}


class Reader:
    """A read-only view of one data folder. Raises StoreError when there is none to read."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._connection = connect_reader(folder)

    def close(self) -> None:
        """Give the connection back."""
        self._connection.close()

    def __enter__(self) -> Reader:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def _rows(self, sql: str, *values: Any) -> sqlite3.Cursor:
        return self._connection.execute(sql, values)

    @contextmanager
    def _at_once(self) -> Iterator[None]:
        """Several looks at one state of the database: a message that is unfolded meanwhile is found once."""
        self._connection.execute("BEGIN")
        try:
            yield
        finally:
            self._connection.execute("COMMIT")

    # --- for the running server ---------------------------------------------------------------------------------

    def last_id(self) -> int:
        """The highest id in use by a message or an attempt."""
        row = self._rows(
            "SELECT max((SELECT coalesce(max(id), 0) FROM message), (SELECT coalesce(max(id), 0) FROM folded),"
            " (SELECT coalesce(max(id), 0) FROM attempt))"
        ).fetchone()
        return int(row[0])

    def queued(self, after: int, until: int, limit: int) -> list[Waiting]:
        """Recipients that nobody tried yet, of messages with an id above `after` and up to `until`, in their order.

        At most `limit`; all of the last message's, for it is not looked at again.
        """
        with self._at_once():
            folded = self._rows(_FOLDED_WAITING.format("m.id > ? AND m.id <= ? ORDER BY m.id"), after, until)
            settled = self._rows(
                _WAITING.format(f"{KEPT}", "c.place >= ? AND c.place < ? AND r.state = 'queued' ORDER BY c.place"),
                place(after + 1, 0),
                place(until + 1, 0),
            )
            with closing(folded), closing(settled):
                found: list[Waiting] = []
                for row in heapq.merge(folded, settled, key=itemgetter(0)):
                    if len(found) >= limit and row[0] != found[-1].message:
                        break
                    found.append(Waiting._make(row))
                return found

    def delayed(self, after: tuple[float, int, int], until: float, limit: int) -> list[Waiting]:
        """Recipients that are due again, in that order: (when, message, number) is above `after`, and the first
        `until`."""
        condition = (
            "r.state = 'delayed' AND (r.next_try, r.message, r.number) > (?, ?, ?) AND r.next_try <= ?"
            " ORDER BY r.next_try, r.message, r.number LIMIT ?"
        )
        return [
            Waiting._make(row) for row in self._rows(_WAITING.format("recipient r", condition), *after, until, limit)
        ]

    def waiting(self, ids: Sequence[int], until: float) -> list[Waiting]:
        """Recipients of these messages that are due."""
        some = _places(ids)
        due = f"r.message IN ({some}) AND (r.state = 'queued' OR r.state = 'delayed' AND r.next_try <= ?)"
        with self._at_once():
            rows = [
                *self._rows(_FOLDED_WAITING.format(f"m.id IN ({some})"), *ids),
                *self._rows(_WAITING.format("recipient r", due), *ids, until),
            ]
        return [Waiting._make(row) for row in sorted(rows, key=itemgetter(0, 1))]

    def ages(self, after: int, limit: int) -> list[tuple[int, float, float]]:
        """Messages that wait, with an id above `after`, in their order: (id, arrived, expires)."""
        rows = self._rows(
            f"SELECT id, arrived, expires FROM (SELECT * FROM (SELECT m.id, m.arrived, m.expires FROM content c"
            f" CROSS JOIN message m ON m.id = c.place >> {PORTION_BITS}"
            f" WHERE c.place >= ?1 AND c.place & {PORTIONS} = 0 ORDER BY c.place LIMIT ?3)"
            " UNION ALL SELECT * FROM"
            " (SELECT id, arrived, expires FROM folded WHERE id > ?2 ORDER BY id LIMIT ?3)) ORDER BY 1 LIMIT ?3",
            place(after + 1, 0),
            after,
            limit,
        )
        return list(rows)

    def due(self, ids: Sequence[int], until: float, octets: int = 0) -> list[Due]:
        """What of these messages (each named once) is queued, or delayed `until` then, in their order; those of which
        nothing is are left out.

        So many `octets` of content are read with it, as far as a message is a single portion.
        """
        with self._at_once():
            due: list[Due] = []
            for start in range(0, len(ids), AT_A_TIME):
                some = self._due_of(ids[start : start + AT_A_TIME], until)
                octets = self._add_content(some, octets)
                due += some
            return due

    def _due_of(self, ids: Sequence[int], until: float) -> list[Due]:
        found: dict[int, Due] = {}
        selection = Selection(ids=ids, states=(State.QUEUED, State.DELAYED))
        width = len(Message._fields)
        for row in self._selected(selection):
            recipient = recipient_of_row(row[width:])
            if recipient.state is State.QUEUED or (recipient.next_try or until) <= until:
                if (due := found.get(row[0])) is None:
                    due = found[row[0]] = Due(message_of_row(row[:width]), [])
                due.recipients.append(recipient)
        return [found[id] for id in ids if id in found]

    def _add_content(self, found: Sequence[Due], octets: int) -> int:
        """Read what fits into `octets` of small messages; how many are left. What cannot be read is left for later."""
        wanted = {place(due.message.id, 0): due for due in found if due.message.size <= min(octets, SMALL)}
        rows = self._rows(
            f"SELECT place, segment, start, size FROM content WHERE place IN ({_places(wanted)}) UNION ALL"
            f" SELECT id << {PORTION_BITS}, segment, start, size FROM folded WHERE id IN ({_places(wanted)})",
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
        """The first instant after `after` at which a delayed recipient is due, or None."""
        row = self._rows(
            "SELECT min(next_try) FROM recipient WHERE state = 'delayed' AND next_try > ?", after
        ).fetchone()
        return None if row[0] is None else float(row[0])

    def lanes(self) -> list[LaneStop]:
        """The lanes that do not move."""
        return [LaneStop._make(row) for row in self._rows("SELECT * FROM lane")]

    def relayed_since(self, connector: str, since: float) -> int:
        """How many recipients were relayed through a connector since an instant."""
        row = self._rows(
            "SELECT count(*) FROM recipient WHERE state = 'relayed' AND connector = ? AND changed >= ?",
            connector,
            since,
        ).fetchone()
        return int(row[0])

    def taken(self, who: str, since: int) -> list[tuple[int, int]]:
        """What a sender has handed in: (hour, recipients), from the hour `since` on."""
        return list(self._rows("SELECT hour, count FROM taken WHERE who = ? AND hour >= ?", who, since))

    def refused(self, since: float) -> list[JournalEntry]:
        """What listeners refused since an instant, in order."""
        rows = self._rows(
            "SELECT at, event, message, facts FROM journal WHERE event = 'refused' AND at >= ? ORDER BY at", since
        )
        return [JournalEntry(at=at, event=Event(event), message=m, facts=json.loads(f)) for at, event, m, f in rows]

    def stops(self, since: float) -> list[tuple[float, float]]:
        """When no server ran, since an instant: from the stop, or the last sign of life, to the next start.

        A server that was killed leaves no stop; then it is the last thing in the journal or the last attempt before.
        """
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
            " coalesce((SELECT arrived FROM folded WHERE id < ?1 ORDER BY id DESC LIMIT 1), 0))",
            id_at(until),
        ).fetchone()
        return min(float(row[0]), until) if row[0] else until

    def content(self, message: int) -> Iterator[bytes]:
        """A message's octets, a portion at a time; none when it has ended."""
        portion = 0
        while True:
            octets = self._portion(place(message, portion))
            if octets is None:
                return
            yield octets
            portion += 1

    def _portion(self, place: int) -> bytes | None:
        """One portion's octets. It may be moved between the look where it stands, and the look there."""
        found = None
        while row := self._rows(_EXTENT, place).fetchone():
            try:
                with Extents(self._folder) as extents:
                    return extents.read(*row)
            except OSError as error:
                if row == found or not isinstance(error, FileNotFoundError):
                    raise ContentUnreadable(place >> PORTION_BITS, str(error)) from error
                found = row
        return None

    def stray_content(self) -> list[int]:
        """Messages of which there is content and nothing else: a submission cut off before it was whole."""
        return [id for (id,) in self._rows("SELECT message FROM growing")]

    def wanted(self) -> list[Wanted]:
        """What an administrator wants done, in order."""
        rows = self._rows("SELECT * FROM wanted ORDER BY number")
        return [Wanted(number, at, who, Action(action), *rest) for number, at, who, action, *rest in rows]

    def failed_between(self, after: tuple[float, int, int], until: float, limit: int) -> list[tuple[float, int, int]]:
        """Recipients that failed, in the order of time: (when, message, number); those behind `after`, which is one."""
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
        """Whether all its recipients had ended by then."""
        row = self._rows(
            f"SELECT 1 FROM recipient WHERE message = ?1 AND ({OPEN_SQL} OR changed > ?2)"
            " UNION ALL SELECT 1 FROM folded WHERE id = ?1 LIMIT 1",
            message,
            before,
        ).fetchone()
        return row is None

    def forgettable(self, before: float, limit: int) -> list[int]:
        """Messages whose recipients had all ended by then, the oldest first."""
        rows = self._rows(
            "SELECT id FROM message m WHERE id < ? AND NOT EXISTS (SELECT 1 FROM recipient r WHERE r.message = m.id"
            f" AND (r.{OPEN_SQL} OR r.changed > ?)) ORDER BY id LIMIT ?",
            id_at(before),
            before,
            limit,
        )
        return [id for (id,) in rows]

    def size(self) -> int:
        """Octets in use, content included; what is free in the files does not count."""
        pages, free, each = (
            self._rows(f"PRAGMA {name}").fetchone()[0] for name in ("page_count", "freelist_count", "page_size")
        )
        content = self._rows(f"SELECT coalesce(sum(size), 0) FROM ({_CONTENT})").fetchone()[0]
        return int((pages - free) * each + content)

    def scattered(self, most: int) -> list[tuple[int, int, bytes]]:
        """Content that stands nearly alone in a large file: (message, number of the portion, octets), about `most`
        octets of it. While it stands there, all of the file stays.
        """
        found: list[tuple[int, int, bytes]] = []
        held = dict(self._rows(f"SELECT segment, sum(size) FROM ({_CONTENT}) GROUP BY segment"))
        for segment, octets in segment_sizes(self._folder)[:-1]:  # the last one may be at work
            if octets < WORTH_CLEARING or not 0 < held.get(segment, 0) < octets // 4:
                continue
            rows = self._rows(f"SELECT place, size FROM ({_CONTENT}) WHERE segment = ?", segment)
            for where, size in rows.fetchall():
                if most < 0:
                    return found
                portion = self._portion(where)
                if portion is not None:
                    most -= size
                    found.append((where >> PORTION_BITS, where & PORTIONS, portion))
        return found

    def recipients(self, id: int) -> tuple[Message, list[Recipient]]:
        """A message with its recipients. Raises NotFound."""
        rows = self._rows(
            f"SELECT {RECIPIENT_COLUMNS} FROM recipient r WHERE r.message = ?1"
            f" UNION ALL SELECT {RECIPIENT_COLUMNS} FROM folded_recipient r WHERE r.message = ?1",
            id,
        )
        return self._message(id), [recipient_of_row(row) for row in rows]

    # --- for people -----------------------------------------------------------------------------------------------

    def resolve(self, wanted: str) -> int:
        """The id that `wanted` begins. Raises NotFound, or Ambiguous when several begin with it."""
        bounds = id_range(wanted)
        if bounds is None:
            raise NotFound(wanted)
        rows = self._rows(
            "SELECT id FROM message WHERE id BETWEEN ?1 AND ?2"
            " UNION ALL SELECT id FROM folded WHERE id BETWEEN ?1 AND ?2 LIMIT 4",
            *bounds,
        )
        ids = [id for (id,) in rows]
        if not ids:
            raise NotFound(wanted)
        if len(ids) > 1:
            raise Ambiguous(wanted, [id_text(id) for id in ids])
        return int(ids[0])

    def select(self, selection: Selection, limit: int = -1, *, newest: bool = False) -> list[QueueRow]:
        """The recipients meant, the oldest message first, or the `newest`."""
        width = len(Message._fields)
        with self._at_once():
            stopped = self._stopped()
            rows = list(self._selected(selection, limit, newest=newest, stopped=stopped))
        return [QueueRow(message_of_row(row[:width]), stopped.shown(recipient_of_row(row[width:]))) for row in rows]

    def _stopped(self) -> StoppedLanes:
        """The lanes that do not move, as SQL sees them from now on."""
        stopped = StoppedLanes(self.lanes())
        stopped.define(self._connection)
        return stopped

    def _selected(
        self, selection: Selection, limit: int = -1, *, newest: bool = False, stopped: StoppedLanes | None = None
    ) -> Iterator[Sequence[Any]]:
        """The columns of the recipients meant, and of their messages before them."""
        where, values = condition(selection, stopped=bool(stopped))
        statement = (
            f"SELECT {MESSAGE_COLUMNS}, {RECIPIENT_COLUMNS} FROM {{recipients}} JOIN {{message}} m ON m.id = r.message"
            f" WHERE {where} ORDER BY {{id}} {'DESC' if newest else 'ASC'}, r.number LIMIT ?"
        )
        places = sources(selection, stopped=bool(stopped))
        rows = [self._rows(statement.format_map(names), *values, limit) for names in places]
        merged = heapq.merge(*rows, key=itemgetter(0), reverse=newest)
        return merged if limit < 0 else islice(merged, limit)

    def queue(self, states: Sequence[State] = OPEN, limit: int = -1) -> list[QueueRow]:
        """Messages with their recipients in `states`, the oldest first."""
        return self.select(Selection(states=states), limit)

    def shape(self) -> QueueShape:
        """The open part of the queue in numbers."""
        shape = QueueShape()
        waiting = f"FROM {KEPT} WHERE r.{OPEN_SQL}"
        for state, count in self._by_state(f"SELECT {{}} {waiting}"):
            shape.by_state[state] = count
        row = self._rows(
            "SELECT count(*), coalesce(sum(size), 0), min(arrived) FROM (SELECT size, arrived FROM message"
            f" WHERE id IN (SELECT r.message {waiting}) UNION ALL SELECT size, arrived FROM folded)"
        ).fetchone()
        shape.messages, shape.octets, shape.oldest = row
        return shape

    def _by_state(self, settled: str) -> list[tuple[State, int]]:
        """How many recipients there are in each state: those of a statement, and those that are folded."""
        of_one, of_folded = "r.state", "'queued'"
        if self._stopped():
            of_one, of_folded = shown("state"), shown("state").replace("r.state", "'queued'")
        rows = self._rows(
            f"SELECT state, count(*) FROM ({settled.format(f'{of_one} AS state')}"
            f" UNION ALL SELECT {of_folded} FROM folded r) GROUP BY 1"
        )
        return [(State(state), count) for state, count in rows]

    def held_by_faults(self) -> int:
        """How many recipients wait, or are parked, by a fault of our own (`relay.faults`)."""
        row = self._rows(
            f"SELECT count(*) FROM {KEPT} WHERE r.state IN ('delayed', 'parked') AND r.reply LIKE 'our own fault%'"
        ).fetchone()
        return int(row[0])

    def groups(self, by: str) -> list[QueueGroup]:
        """What waits, by one of `_GROUPS` (`reason` is the last reply); the largest group first."""
        name, next_try = _GROUPS[by], "r.next_try"
        if self._stopped():
            next_try = shown("next_try")
            name = {"domain": name, "reason": f"reason({shown('reply')})"}.get(by) or shown(name.removeprefix("r."))
        each = (
            f"SELECT {name} AS name, r.message, m.arrived, {next_try} AS next_try FROM {{recipients}}"
            f" JOIN {{message}} m ON m.id = r.message WHERE r.{OPEN_SQL}"
        )
        rows = self._rows(
            "SELECT name, count(*), count(DISTINCT message), min(arrived), min(next_try)"
            f" FROM ({' UNION ALL '.join(map(each.format_map, sources(Selection())))})"
            " GROUP BY 1 ORDER BY 2 DESC, 1"
        )
        return [QueueGroup(*row) for row in rows]

    def totals(self) -> dict[State, int]:
        """Recipients by state, ended ones too; looks at every recipient there is."""
        return dict(self._by_state("SELECT {} FROM recipient r"))

    def connectors(self) -> list[ConnectorState]:
        """What is known of each connector that was ever used."""
        return [ConnectorState(*row) for row in self._rows("SELECT * FROM connector ORDER BY name")]

    def record(self, id: int) -> Record:
        """Everything about one message. Raises NotFound."""
        message, recipients = self.recipients(id)
        stopped = self._stopped()
        attempts = [
            attempt_of_row(row) for row in self._rows("SELECT * FROM attempt WHERE message = ? ORDER BY at, id", id)
        ]
        return Record(
            message,
            [stopped.shown(recipient) for recipient in recipients],
            [*attempts, *stopped.waits(message, recipients)],
            [
                JournalEntry(at=at, event=Event(event), message=message, facts=json.loads(facts))
                for at, event, message, facts in self._rows(
                    "SELECT at, event, message, facts FROM journal WHERE message = ? ORDER BY number", id
                )
            ],
        )

    def _message(self, id: int) -> Message:
        row = self._rows(
            f"SELECT {MESSAGE_COLUMNS} FROM message m WHERE m.id = ?1"
            f" UNION ALL SELECT {MESSAGE_COLUMNS} FROM folded_message m WHERE m.id = ?1",
            id,
        ).fetchone()
        if row is None:
            raise NotFound(id_text(id))
        return message_of_row(row)


def _places(values: Collection[object]) -> str:
    """As many places for values in a statement."""
    return ",".join("?" * len(values))
