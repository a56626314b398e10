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
from copper_kite.store.commit import place
from copper_kite.store.ids import id_at, id_range, id_text
from copper_kite.store.model import (
    ConnectorState,
    Due,
    JournalEntry,
    Message,
    QueueGroup,
    QueueRow,
    QueueShape,
    Recipient,
    Record,
    Selection,
    Wanted,
)
from copper_kite.store.rows import (
    MESSAGE_COLUMNS,
    RECIPIENT_COLUMNS,
    attempt_of_row,
    message_of_row,
    recipient_of_row,
)
from copper_kite.store.schema import PORTION_BITS, PORTIONS, connect_reader
from copper_kite.store.segments import Extents, segment_sizes
from copper_kite.store.selecting import KEPT, OPEN, OPEN_SQL, condition, sources
from copper_kite.words import Action, Event, State

__all__ = ["Reader"]

ABOVE_ALL = (1 << 50) - 1  # no id is higher
AT_A_TIME = 500  # messages in one question
SMALL = 256 * 1024  # octets of a message that is read at once
WORTH_CLEARING = 8 * 1024 * 1024  # octets of a file

_CONTENT = f"SELECT place, segment, size FROM content UNION ALL SELECT id << {PORTION_BITS}, segment, size FROM folded"
_EXTENT = (
    "SELECT segment, start, size FROM content WHERE place = ?1 UNION ALL SELECT segment, start, size FROM folded"
    f" WHERE id = ?1 >> {PORTION_BITS} AND ?1 & {PORTIONS} = 0"
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

    def due(
        self, now: float, limit: int, without: Collection[int] = (), octets: int = 0, queued_from: int = 0
    ) -> tuple[list[Due], int]:
        """Messages with recipients that are queued, or delayed until `now`: about those that wait longest first, at
        most `limit` of them; and the id from which on more may be queued than were found, or are among those `without`.

        Queued ones are looked for from the id `queued_from` on. So many `octets` of content are read with what is
        found, as far as a message is a single portion.
        """
        with self._at_once():
            ids, queued_from = self._ids_due(now, limit, without, queued_from)
            due: list[Due] = []
            for start in range(0, len(ids), AT_A_TIME):
                some = self._due_of(ids[start : start + AT_A_TIME], now)
                octets = self._add_content(some, octets)
                due += some
            return due, queued_from

    def _ids_due(self, now: float, limit: int, without: Collection[int], queued_from: int) -> tuple[list[int], int]:
        """The messages that `due` finds, and where the next look for queued ones is to begin."""
        delayed = "SELECT next_try, message, 0 FROM recipient WHERE state = 'delayed' AND next_try <= ? ORDER BY 1, 2"
        folded = "SELECT arrived, id, 1 FROM folded WHERE id >= ? ORDER BY id"
        queued = f"SELECT r.changed, message, 1 FROM {KEPT} WHERE c.place >= ? AND state = 'queued' ORDER BY c.place"
        found: dict[int, None] = {}  # in their order
        with (
            closing(self._rows(delayed, now)) as first,
            closing(self._rows(folded, queued_from)) as second,
            closing(self._rows(queued, place(queued_from, 0))) as third,
        ):
            for _, id, is_queued in heapq.merge(first, heapq.merge(second, third, key=itemgetter(1))):
                if len(found) == limit:
                    return list(found), queued_from
                if is_queued:
                    queued_from = id + 1
                if id not in without:
                    found[id] = None
        return list(found), ABOVE_ALL

    def _due_of(self, ids: Sequence[int], now: float) -> list[Due]:
        """What of these messages is due, in their order."""
        found: dict[int, Due] = {}
        selection = Selection(ids=ids, states=(State.QUEUED, State.DELAYED))
        width = len(Message._fields)
        for row in self._selected(selection):
            if (due := found.get(row[0])) is None:
                due = found[row[0]] = Due(message_of_row(row[:width]), [])
            recipient = recipient_of_row(row[width:])
            at = now if recipient.state is State.QUEUED else recipient.next_try or now
            if at <= now:
                due.recipients.append(recipient)
            else:
                due.later = min(due.later, at)
        return [found[id] for id in ids]

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

    def holds(self, connector: str, domain: str = "") -> bool:
        """Whether a recipient is held for this connector, or for this domain of it."""
        held = "SELECT 1 FROM recipient WHERE held AND connector = ?1 AND (?2 = '' OR address LIKE '%@' || ?2)"
        return bool(self._rows(f"SELECT EXISTS ({held})", connector, domain).fetchone()[0])

    def holding(self) -> list[str]:
        """The connectors for which recipients are held."""
        found: list[str] = []
        while row := self._rows(
            "SELECT min(connector) FROM recipient WHERE held AND connector > ?", found[-1] if found else ""
        ).fetchone():
            if row[0] is None:
                break
            found.append(row[0])
        return found

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
            rows = list(self._selected(selection, limit, newest=newest))
            recipients = self._as_shown([recipient_of_row(row[width:]) for row in rows])
        return [QueueRow(message_of_row(row[:width]), one) for row, one in zip(rows, recipients, strict=True)]

    def _as_shown(self, recipients: list[Recipient]) -> list[Recipient]:
        """What is held goes after the message that tries the connector again: that one's time is what people want."""
        times = {
            name: self._rows(
                "SELECT next_try FROM recipient WHERE state = 'delayed' AND connector = ? AND NOT held"
                " ORDER BY next_try LIMIT 1",
                name,
            ).fetchone()
            for name in {one.connector for one in recipients if one.held}
        }
        return [
            one._replace(next_try=next(iter(times[one.connector] or ()), None)) if one.held else one
            for one in recipients
        ]

    def _selected(self, selection: Selection, limit: int = -1, *, newest: bool = False) -> Iterator[Sequence[Any]]:
        """The columns of the recipients meant, and of their messages before them."""
        where, values = condition(selection)
        statement = (
            f"SELECT {MESSAGE_COLUMNS}, {RECIPIENT_COLUMNS} FROM {{recipients}} JOIN {{message}} m ON m.id = r.message"
            f" WHERE {where} ORDER BY {{id}} {'DESC' if newest else 'ASC'}, r.number LIMIT ?"
        )
        rows = [self._rows(statement.format_map(names), *values, limit) for names in sources(selection)]
        merged = heapq.merge(*rows, key=itemgetter(0), reverse=newest)
        return merged if limit < 0 else islice(merged, limit)

    def queue(self, states: Sequence[State] = OPEN, limit: int = -1) -> list[QueueRow]:
        """Messages with their recipients in `states`, the oldest first."""
        return self.select(Selection(states=states), limit)

    def shape(self) -> QueueShape:
        """The open part of the queue in numbers."""
        shape = QueueShape()
        waiting = f"FROM {KEPT} WHERE r.{OPEN_SQL}"
        for state, count in self._rows(
            f"SELECT state, count(*) FROM (SELECT r.state {waiting} UNION ALL SELECT 'queued' FROM folded) GROUP BY 1"
        ):
            shape.by_state[State(state)] = count
        row = self._rows(
            "SELECT count(*), coalesce(sum(size), 0), min(arrived) FROM (SELECT size, arrived FROM message"
            f" WHERE id IN (SELECT r.message {waiting}) UNION ALL SELECT size, arrived FROM folded)"
        ).fetchone()
        shape.messages, shape.octets, shape.oldest = row
        return shape

    def groups(self, by: str) -> list[QueueGroup]:
        """What waits, by one of `_GROUPS` (`reason` is the last reply); the largest group first."""
        each = (
            f"SELECT {_GROUPS[by]} AS name, r.message, m.arrived,"
            " iif(r.held, NULL, r.next_try) AS next_try FROM {recipients}"
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
        rows = self._rows(
            "SELECT state, count(*) FROM (SELECT state FROM recipient UNION ALL SELECT 'queued' FROM folded) GROUP BY 1"
        )
        return {State(state): count for state, count in rows}

    def connectors(self) -> list[ConnectorState]:
        """What is known of each connector that was ever used."""
        return [ConnectorState(*row) for row in self._rows("SELECT * FROM connector ORDER BY name")]

    def record(self, id: int) -> Record:
        """Everything about one message. Raises NotFound."""
        message, recipients = self.recipients(id)
        return Record(
            message,
            self._as_shown(recipients),
            [attempt_of_row(row) for row in self._rows("SELECT * FROM attempt WHERE message = ? ORDER BY at, id", id)],
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
