"""The queries of commands that show the queue of all servers."""

from __future__ import annotations

import json
from collections.abc import Sequence

from copper_kite.errors import Ambiguous, NotFound
from copper_kite.store.ids import id_range, id_text, slot_of
from copper_kite.store.model import (
    CarrierThen,
    ConnectorState,
    JournalEntry,
    LaneStop,
    Message,
    QueueGroup,
    QueueRow,
    QueueSummary,
    Record,
    Selection,
    ServerState,
)
from copper_kite.store.postgres.reads import PostgresReads
from copper_kite.store.postgres.selecting import DOMAIN, OPEN_SQL, REASON, SHOWN, WITH_LANES, condition, source
from copper_kite.store.shared.rows import (
    LANE_COLUMNS,
    MESSAGE_COLUMNS,
    RECIPIENT_COLUMNS,
    attempt_of_row,
    message_of_row,
    recipient_of_row,
)
from copper_kite.store.shared.stopped import StoppedLanes
from copper_kite.words import OPEN, Event, State

__all__ = ["PostgresReader"]

_WIDTH = len(Message._fields)


class PostgresReader(PostgresReads):
    """A `store.contract.Reader` of the queue that servers share."""

    def resolve(self, wanted: str) -> int:
        bounds = id_range(wanted)
        if bounds is None:
            raise NotFound(wanted)
        ids = [id for (id,) in self._link.rows("SELECT id FROM message WHERE id BETWEEN %s AND %s LIMIT 4", bounds)]
        if not ids:
            raise NotFound(wanted)
        if len(ids) > 1:
            raise Ambiguous(wanted, [id_text(id) for id in ids])
        return int(ids[0])

    def select(self, selection: Selection, limit: int = -1, *, newest: bool = False) -> list[QueueRow]:
        where, values = condition(selection)
        values["limit"] = None if limit < 0 else limit
        with self._link.at_once():
            stopped = self._stopped()
            rows = self._link.rows(
                f"SELECT {MESSAGE_COLUMNS}, {RECIPIENT_COLUMNS}, m.owner FROM {source(selection)}{WITH_LANES}"
                f" WHERE {where} ORDER BY r.message {'DESC' if newest else 'ASC'}, r.number LIMIT %(limit)s",
                values,
            )
        return [
            QueueRow(
                message_of_row(row[:_WIDTH]),
                stopped.get(row[-1], _NONE_STOPPED).shown(recipient_of_row(row[_WIDTH:])),
            )
            for row in rows
        ]

    def _stopped(self) -> dict[int, StoppedLanes]:
        """The stopped lanes of each server, by its number."""
        stops: dict[int, list[LaneStop]] = {}
        for server, *row in self._link.rows(f"SELECT server, {', '.join(LANE_COLUMNS)} FROM lane"):
            stops.setdefault(server, []).append(LaneStop(*row))
        return {server: StoppedLanes(of) for server, of in stops.items()}

    def queue(self, states: Sequence[State] = OPEN, limit: int = -1) -> list[QueueRow]:
        return self.select(Selection(states=states), limit)

    def summary(self) -> QueueSummary:
        queue_summary = QueueSummary()
        with self._link.at_once():
            rows = self._link.rows(
                f"SELECT {SHOWN['state']}, count(*) FROM {source(Selection())}{WITH_LANES} WHERE r.{OPEN_SQL}"
                " GROUP BY 1"
            )
            queue_summary.by_state = {State(state): count for state, count in rows}
            row = self._link.rows(
                "SELECT count(*), coalesce(sum(m.size), 0)::bigint, min(m.arrived) FROM content c"
                " JOIN message m ON m.id = c.message WHERE c.portion = 0 AND EXISTS (SELECT 1 FROM recipient r"
                f" WHERE r.message = c.message AND r.{OPEN_SQL})"
            )[0]
        queue_summary.messages, queue_summary.octets, queue_summary.oldest = row
        return queue_summary

    def held_by_faults(self) -> int:
        row = self._link.rows(
            f"SELECT count(*) FROM {source(Selection())} WHERE r.state IN ('delayed', 'parked')"
            " AND r.reply LIKE 'our own fault%%'"
        )[0]
        return int(row[0])

    def groups(self, by: str) -> list[QueueGroup]:
        names = {
            "state": SHOWN["state"],
            "connector": "r.connector",
            "next hop": SHOWN["next_hop"],
            "reason": REASON.format(SHOWN["reply"]),
            "domain": DOMAIN,
        }
        rows = self._link.rows(
            f"SELECT {names[by]}, count(*), count(DISTINCT r.message), min(m.arrived), min({SHOWN['next_try']})"
            f" FROM {source(Selection())}{WITH_LANES} WHERE r.{OPEN_SQL} GROUP BY 1 ORDER BY 2 DESC, 1"
        )
        return [QueueGroup(*row) for row in rows]

    def totals(self) -> dict[State, int]:
        rows = self._link.rows(
            f"SELECT {SHOWN['state']}, count(*) FROM recipient r JOIN message m ON m.id = r.message{WITH_LANES}"
            " GROUP BY 1"
        )
        return {State(state): count for state, count in rows}

    def connectors(self) -> list[ConnectorState]:
        rows = self._link.rows(
            "SELECT name, max(last_good), max(last_bad),"
            " (array_agg(last_bad_text ORDER BY last_bad DESC NULLS LAST))[1] FROM connector"
            " GROUP BY name ORDER BY name"
        )
        return [ConnectorState(*row) for row in rows]

    def waiting_of(self, server: str) -> list[int]:
        rows = self._link.rows(
            f"SELECT DISTINCT r.message FROM {source(Selection())} LEFT JOIN server s ON s.slot = m.owner"
            f" WHERE r.{OPEN_SQL} AND (s.name = %s OR m.owner = 0) ORDER BY 1",
            (server,),
        )
        return [id for (id,) in rows]

    def servers(self) -> list[ServerState]:
        rows = self._link.rows(
            "SELECT slot, name, lease_until > now() AND folder <> '', since,"
            " extract(epoch FROM greatest(lease_until, now()) - now())::float8, waiting FROM server ORDER BY slot"
        )
        return list(map(ServerState._make, rows))

    def record(self, id: int) -> Record:
        with self._link.at_once():
            message, recipients = self.recipients(id)
            owner = self._link.rows("SELECT owner FROM message WHERE id = %s", (id,))[0][0]
            stopped = self._stopped().get(owner, _NONE_STOPPED)
            attempts = self._link.rows("SELECT * FROM attempt WHERE message = %s ORDER BY at, id", (id,))
            entries = self._link.rows(
                "SELECT at, event, message, facts, server FROM journal WHERE message = %s ORDER BY number", (id,)
            )
            servers = self._link.rows("SELECT slot, name FROM server")
            slot = slot_of(
                id
            )  # whose configuration chose the connectors; a message that was moved here has its owner's
            whose = slot if any(slot == known for known, _ in servers) else owner
            routes = self._link.rows(_ROUTES, {"since": message.arrived, "server": whose})
        return Record(
            message,
            [stopped.shown(recipient) for recipient in recipients],
            [*map(attempt_of_row, attempts), *stopped.waits(message, recipients)],
            [
                JournalEntry(at=at, event=Event(event), message=message, facts=json.loads(facts), server=server)
                for at, event, message, facts, server in entries
            ],
            [(at, list(map(CarrierThen._make, json.loads(facts)["connectors"]))) for at, facts in routes],
            dict(servers),
        )


_NONE_STOPPED = StoppedLanes(())
_ROUTES = (
    "SELECT at, facts FROM journal WHERE event = 'routes' AND server = %(server)s AND at >= coalesce("
    "(SELECT max(at) FROM journal WHERE event = 'routes' AND server = %(server)s AND at <= %(since)s), 0) ORDER BY at"
)
