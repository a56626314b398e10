"""The queries of a running server, which sees its own mail; or, for commands, that of all servers."""

from __future__ import annotations

import json
from collections.abc import Iterator, Sequence
from typing import Any, Self
from zlib import crc32

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
    Tally,
    Waiting,
)
from copper_kite.store.place import StorePlace
from copper_kite.store.postgres.commit import Identity
from copper_kite.store.postgres.counts import recount
from copper_kite.store.postgres.link import Link
from copper_kite.store.postgres.peers import exchange, reserve, take_given
from copper_kite.store.postgres.schema import demand_schema
from copper_kite.store.postgres.selecting import OPEN_SQL
from copper_kite.store.postgres.servers import adopt
from copper_kite.store.shared.counting import MINUTE
from copper_kite.store.shared.rows import (
    LANE_COLUMNS,
    MESSAGE_COLUMNS,
    RECIPIENT_COLUMNS,
    message_of_row,
    recipient_of_row,
)
from copper_kite.words import Action, Event

__all__ = ["PostgresReads"]

SMALL = 256 * 1024  # octets of a message that is read at once

_WHO = """coalesce(nullif(m."user", ''), m.client)"""
_WAITING = (
    "SELECT r.message, r.number, r.address, r.connector, r.via, coalesce(r.next_try, m.arrived), m.reverse_path,"
    f" m.arrived, m.expires, {_WHO}, m.priority"
)
_WIDTH = len(Message._fields)


class PostgresReads:
    """A `store.contract.ServerReads`: of the server `me`, or of all of them."""

    def __init__(self, place: StorePlace, me: Identity | None = None) -> None:
        self._link = Link(place, demand_schema, keep=me is not None)
        self._me = me
        self.slot = None if me is None else me.slot
        self._owned = "true" if me is None else f"m.owner = {me.slot:d}"

    def close(self) -> None:
        self._link.close()

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def adopt(self, limit: int, *, from_dead: bool = True) -> list[int]:
        assert self._me is not None
        given = take_given(self._link, self._me)
        return given or (adopt(self._link, self._me, limit) if from_dead else [])

    def exchange(self, waiting: int) -> list[tuple[int, int]]:
        assert self._me is not None
        return exchange(self._link, self._me, waiting)

    def reserve(self, connector: str, allowance: str, since: float, most: int, count: int) -> int:
        return reserve(self._link, connector, allowance, since, most, count)

    def last_id(self) -> int:
        row = self._link.rows("SELECT greatest((SELECT max(id) FROM message), (SELECT max(id) FROM attempt), 0)")[0]
        return int(row[0])

    def queued(self, after: int, until: int, limit: int) -> list[Waiting]:
        rows = self._link.rows(
            f"{_WAITING} FROM content c JOIN message m ON m.id = c.message AND {self._owned} JOIN recipient r"
            " ON r.message = c.message AND r.state = 'queued'"
            " WHERE c.portion = 0 AND c.message > %s AND c.message <= %s ORDER BY c.message, r.number LIMIT %s",
            (after, until, limit),
        )
        results = list(map(Waiting._make, rows))
        if len(results) == limit:  # the rest of the last message's
            last = results[-1]
            rows = self._link.rows(
                f"{_WAITING} FROM recipient r JOIN message m ON m.id = r.message"
                " WHERE r.message = %s AND r.number > %s AND r.state = 'queued' ORDER BY r.number",
                (last.message, last.number),
            )
            results += map(Waiting._make, rows)
        return results

    def delayed(self, after: tuple[float, int, int], until: float, limit: int) -> list[Waiting]:
        rows = self._link.rows(
            f"{_WAITING} FROM recipient r JOIN message m ON m.id = r.message AND {self._owned}"
            " WHERE r.state = 'delayed' AND (r.next_try, r.message, r.number) > (%s, %s, %s) AND r.next_try <= %s"
            " ORDER BY r.next_try, r.message, r.number LIMIT %s",
            (*after, until, limit),
        )
        return list(map(Waiting._make, rows))

    def waiting(self, ids: Sequence[int], until: float) -> list[Waiting]:
        rows = self._link.rows(
            f"{_WAITING} FROM recipient r JOIN message m ON m.id = r.message AND {self._owned}"
            " WHERE r.message = ANY(%s) AND (r.state = 'queued' OR r.state = 'delayed' AND r.next_try <= %s)"
            " ORDER BY r.message, r.number",
            (list(ids), until),
        )
        return list(map(Waiting._make, rows))

    def ages(self, after: int, limit: int) -> list[tuple[int, float, float]]:
        rows = self._link.rows(
            f"SELECT m.id, m.arrived, m.expires FROM content c JOIN message m ON m.id = c.message AND {self._owned}"
            " WHERE c.portion = 0 AND c.message > %s ORDER BY c.message LIMIT %s",
            (after, limit),
        )
        return [(id, arrived, expires) for id, arrived, expires in rows]

    def due(self, ids: Sequence[int], until: float, octets: int = 0) -> list[Due]:
        rows = self._link.rows(
            f"SELECT {MESSAGE_COLUMNS}, {RECIPIENT_COLUMNS} FROM recipient r JOIN message m ON m.id = r.message"
            f" AND {self._owned} WHERE r.message = ANY(%s) AND (r.state = 'queued' OR r.state = 'delayed'"
            " AND coalesce(r.next_try, 0) <= %s) ORDER BY r.message, r.number",
            (list(ids), until),
        )
        results: dict[int, Due] = {}
        for row in rows:
            if (due := results.get(row[0])) is None:
                due = results[row[0]] = Due(message_of_row(row[:_WIDTH]), [])
            due.recipients.append(recipient_of_row(row[_WIDTH:]))
        dues = [results[id] for id in ids if id in results]
        self._add_content(dues, octets)
        return dues

    def _add_content(self, dues: Sequence[Due], octets: int) -> None:
        """Read what fits into `octets` of small messages. What cannot be read is left for later."""
        wanted: dict[int, Due] = {}
        for due in dues:
            if due.message.size <= min(octets, SMALL):
                octets -= due.message.size
                wanted[due.message.id] = due
        if wanted:
            rows = self._link.rows(
                "SELECT message, sum, octets FROM content WHERE message = ANY(%s) AND portion = 0", (list(wanted),)
            )
            for message, total, content in rows:
                due = wanted[message]
                if len(content) == due.message.size and crc32(content) == total:
                    due.content = bytes(content)

    def next_due(self, after: float) -> float | None:
        row = self._link.rows("SELECT min(next_try) FROM recipient WHERE state = 'delayed' AND next_try > %s", (after,))
        return None if row[0][0] is None else float(row[0][0])

    def lanes(self) -> list[LaneStop]:
        names = ", ".join(f"l.{name}" for name in LANE_COLUMNS)
        if self._me is not None:
            rows = self._link.rows(f"SELECT {names} FROM lane l WHERE server = %s", (self._me.slot,))
        else:
            rows = self._link.rows(
                f"SELECT {names}, s.name FROM lane l JOIN server s ON s.slot = l.server ORDER BY 1, 2"
            )
        return [LaneStop(*row) for row in rows]

    def relayed_since(self, connector: str, since: float) -> int:
        row = self._link.rows(
            "SELECT count(*) FROM recipient WHERE state = 'relayed' AND connector = %s AND changed >= %s",
            (connector, since),
        )[0]
        return int(row[0])

    def taken(self, who: str, since: int) -> list[tuple[int, int]]:
        rows = self._link.rows(
            "SELECT hour, sum(count)::bigint FROM taken WHERE who = %s AND hour >= %s GROUP BY hour", (who, since)
        )
        return [(hour, count) for hour, count in rows]

    def hourly(self, since: int, until: int) -> Iterator[HourlyCount]:
        keys = ", ".join(HourlyCount._fields[:-2])
        return map(
            HourlyCount._make,
            self._link.rows(
                f"SELECT {keys}, sum(recipients)::bigint, sum(octets)::bigint FROM hourly"
                f" WHERE hour >= %s AND hour < %s GROUP BY {keys}",
                (since, until),
            ),
        )

    def summed_counts(
        self, since: int, until: int, by: Sequence[str], only: CountFilter | None = None, outcome: str = ""
    ) -> list[tuple[Any, ...]]:
        assert set(by) <= set(HourlyCount._fields), by
        connector, who, domain = only or CountFilter()
        conditions: list[tuple[str, Any]] = [("hour >= %s", since), ("hour < %s", until)]
        given = (("outcome", outcome), ("connector", connector), ("who", who))
        conditions += [(f"{name} = %s", value) for name, value in given if value]
        if domain.startswith("*."):
            conditions.append(("right(domain, length(%s)) = %s", domain[1:]))
        elif domain:
            conditions.append(("domain = %s", domain))
        where, columns = " AND ".join(condition for condition, _ in conditions), ", ".join(by)
        values = [value for condition, value in conditions for _ in range(condition.count("%s"))]
        return self._link.rows(
            f"SELECT {columns}, sum(recipients)::bigint, sum(octets)::bigint FROM hourly WHERE {where}"
            f" GROUP BY {columns}",
            values,
        )

    def recounted(self, since: int, until: int) -> Iterator[HourlyCount]:
        return recount(self._link, since, until)

    def tallies(self, since: float) -> list[Tally]:
        rows = self._link.rows(
            "SELECT minute, connector, outcome, sum(count)::bigint FROM tally WHERE minute >= %s"
            " GROUP BY 1, 2, 3 ORDER BY 1, 2, 3",
            (int(since) // MINUTE,),
        )
        return list(map(Tally._make, rows))

    def noted(self, event: Event, since: float) -> list[JournalEntry]:
        only = "" if self._me is None else f" AND server = {self._me.slot:d}"
        rows = self._link.rows(
            f"SELECT at, event, message, facts FROM journal WHERE event = %s AND at >= %s{only} ORDER BY at, number",
            (event.value, since),
        )
        return [JournalEntry(at=at, event=Event(event), message=m, facts=json.loads(f)) for at, event, m, f in rows]

    def stops(self, since: float) -> list[tuple[float, float]]:
        rows = self._link.rows(
            "SELECT at, event, server FROM journal WHERE event IN ('started', 'stopped') ORDER BY at, number"
        )
        stops: list[tuple[float, float]] = []
        running: set[int] = set()
        before: float | None = None
        for at, event, server in rows:
            if event == Event.STARTED:
                if server in running:  # it died without a word
                    running.discard(server)
                    before = before if running else self._last_sign(at)
                if not running and before is not None and at > since:
                    stops.append((before, at))
                running.add(server)
            else:
                running.discard(server)
                before = at
        return stops

    def _last_sign(self, until: float) -> float:
        row = self._link.rows(
            "SELECT greatest((SELECT at + seconds FROM attempt WHERE id < %(id)s ORDER BY id DESC LIMIT 1),"
            " (SELECT arrived FROM message WHERE id < %(id)s ORDER BY id DESC LIMIT 1), 0)",
            {"id": id_at(until)},
        )[0]
        return min(float(row[0]), until) if row[0] else until

    def content(self, message: int) -> Iterator[bytes]:
        portion = 0
        while rows := self._link.rows(
            "SELECT sum, octets FROM content WHERE message = %s AND portion = %s", (message, portion)
        ):
            total, octets = rows[0]
            if crc32(octets) != total:
                raise ContentUnreadable(message, f"portion {portion} is not what was written")
            yield bytes(octets)
            portion += 1

    def stray_content(self) -> list[int]:
        only = "" if self._me is None else f" WHERE message & 63 = {self._me.slot:d}"
        return [id for (id,) in self._link.rows(f"SELECT message FROM growing{only} ORDER BY message")]

    def admin_requests(self) -> list[AdminRequest]:
        only = ""
        if self._me is not None:
            only = (
                f" WHERE w.server = {self._me.slot:d} OR w.server IS NULL AND (m.owner = {self._me.slot:d}"
                " OR m.id IS NULL)"
            )
        rows = self._link.rows(
            "SELECT w.number, w.at, w.who, w.action, w.message, w.recipient, w.target FROM wanted w"
            f" LEFT JOIN message m ON m.id = w.message{only} ORDER BY w.number"
        )
        return [AdminRequest(number, at, who, Action(action), *rest) for number, at, who, action, *rest in rows]

    def failed_between(self, after: tuple[float, int, int], until: float, limit: int) -> list[tuple[float, int, int]]:
        rows = self._link.rows(
            "SELECT changed, message, number FROM recipient WHERE state = 'failed'"
            " AND (changed, message, number) > (%s, %s, %s) AND changed <= %s ORDER BY 1, 2, 3 LIMIT %s",
            (*after, until, limit),
        )
        return [(changed, message, number) for changed, message, number in rows]

    def has_ended(self, message: int, before: float) -> bool:
        return not self._link.rows(
            f"SELECT 1 FROM recipient WHERE message = %s AND ({OPEN_SQL} OR changed > %s) LIMIT 1", (message, before)
        )

    def forgettable(self, before: float, limit: int) -> list[int]:
        rows = self._link.rows(
            "SELECT id FROM message m WHERE id < %s AND NOT EXISTS (SELECT 1 FROM recipient r WHERE r.message = m.id"
            f" AND (r.{OPEN_SQL} OR r.changed > %s)) ORDER BY id LIMIT %s",
            (id_at(before), before, limit),
        )
        return [id for (id,) in rows]

    def size(self) -> int:
        row = self._link.rows(
            "SELECT coalesce(sum(pg_total_relation_size(oid)), 0)::bigint FROM pg_class"
            " WHERE relkind = 'r' AND relnamespace = current_schema()::regnamespace"
        )[0]
        return int(row[0])

    def scattered(self, most: int) -> list[tuple[int, int, bytes]]:
        return []  # the database tidies up after itself

    def recipients(self, id: int) -> tuple[Message, list[Recipient]]:
        rows = self._link.rows(
            f"SELECT {RECIPIENT_COLUMNS} FROM recipient r WHERE r.message = %s ORDER BY r.number", (id,)
        )
        messages = self._link.rows(f"SELECT {MESSAGE_COLUMNS} FROM message m WHERE m.id = %s", (id,))
        if not messages:
            raise NotFound(id_text(id))
        return message_of_row(messages[0]), [recipient_of_row(row) for row in rows]
