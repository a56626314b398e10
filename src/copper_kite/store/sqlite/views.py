"""The queries of commands that show the queue."""

from __future__ import annotations

import json
from collections.abc import Sequence

from copper_kite.errors import Ambiguous, NotFound
from copper_kite.store.ids import id_range, id_text
from copper_kite.store.model import (
    CarrierThen,
    ConnectorState,
    JournalEntry,
    Message,
    QueueGroup,
    QueueRow,
    QueueSummary,
    Record,
    Selection,
    ServerState,
)
from copper_kite.store.shared.rows import attempt_of_row, message_of_row, recipient_of_row
from copper_kite.store.sqlite.reads import SqliteReads
from copper_kite.store.sqlite.selecting import KEPT, OPEN_SQL, sources
from copper_kite.store.sqlite.stopped import DOMAIN, SqliteStoppedLanes
from copper_kite.words import OPEN, Event, State

__all__ = ["SqliteReader"]


class SqliteReader(SqliteReads):
    """A `store.contract.Reader` of one data folder."""

    def resolve(self, wanted: str) -> int:
        bounds = id_range(wanted)
        if bounds is None:
            raise NotFound(wanted)
        rows = self._rows(
            "SELECT id FROM message WHERE id BETWEEN ?1 AND ?2"
            " UNION ALL SELECT id FROM compact WHERE id BETWEEN ?1 AND ?2 LIMIT 4",
            *bounds,
        )
        ids = [id for (id,) in rows]
        if not ids:
            raise NotFound(wanted)
        if len(ids) > 1:
            raise Ambiguous(wanted, [id_text(id) for id in ids])
        return int(ids[0])

    def select(self, selection: Selection, limit: int = -1, *, newest: bool = False) -> list[QueueRow]:
        width = len(Message._fields)
        with self._at_once():
            stopped = self._stopped()
            rows = list(self._selected(selection, limit, newest=newest, stopped=stopped))
        return [QueueRow(message_of_row(row[:width]), stopped.shown(recipient_of_row(row[width:]))) for row in rows]

    def _stopped(self) -> SqliteStoppedLanes:
        return SqliteStoppedLanes(self.lanes())

    def queue(self, states: Sequence[State] = OPEN, limit: int = -1) -> list[QueueRow]:
        return self.select(Selection(states=states), limit)

    def summary(self) -> QueueSummary:
        queue_summary = QueueSummary()
        waiting = f"FROM {KEPT} WHERE r.{OPEN_SQL}"
        for state, count in self._by_state(f"SELECT {{}} {waiting}"):
            queue_summary.by_state[state] = count
        row = self._rows(
            "SELECT count(*), coalesce(sum(size), 0), min(arrived) FROM (SELECT size, arrived FROM message"
            f" WHERE id IN (SELECT r.message {waiting}) UNION ALL SELECT size, arrived FROM compact)"
        ).fetchone()
        queue_summary.messages, queue_summary.octets, queue_summary.oldest = row
        return queue_summary

    def _by_state(self, settled: str) -> list[tuple[State, int]]:
        """How many recipients there are in each state: those of a statement, and those that are compact."""
        stopped = self._stopped()
        of_one, of_compact = stopped.sql("state"), stopped.sql("state", "'queued'")
        rows = self._rows(
            f"SELECT state, count(*) FROM ({settled.format(f'{of_one} AS state')}"
            f" UNION ALL SELECT {of_compact} FROM compact r) GROUP BY 1"
        )
        return [(State(state), count) for state, count in rows]

    def held_by_faults(self) -> int:
        row = self._rows(
            f"SELECT count(*) FROM {KEPT} WHERE r.state IN ('delayed', 'parked') AND r.reply LIKE 'our own fault%'"
        ).fetchone()
        return int(row[0])

    def groups(self, by: str) -> list[QueueGroup]:
        stopped = self._stopped()
        names = {
            "state": stopped.sql("state"),
            "connector": "r.connector",
            "next hop": stopped.sql("next_hop"),
            "reason": f"reason({stopped.sql('reply')})",
            "domain": DOMAIN,
        }
        each = (
            f"SELECT {names[by]} AS name, r.message, m.arrived, {stopped.sql('next_try')} AS next_try"
            f" FROM {{recipients}}"
            f" JOIN {{message}} m ON m.id = r.message WHERE r.{OPEN_SQL}"
        )
        rows = self._rows(
            "SELECT name, count(*), count(DISTINCT message), min(arrived), min(next_try)"
            f" FROM ({' UNION ALL '.join(map(each.format_map, sources(Selection())))})"
            " GROUP BY 1 ORDER BY 2 DESC, 1"
        )
        return [QueueGroup(*row) for row in rows]

    def totals(self) -> dict[State, int]:
        return dict(self._by_state("SELECT {} FROM recipient r"))

    def connectors(self) -> list[ConnectorState]:
        return [ConnectorState(*row) for row in self._rows("SELECT * FROM connector ORDER BY name")]

    def waiting_of(self, server: str) -> list[int]:
        return [
            id
            for (id,) in self._rows(
                f"SELECT DISTINCT r.message FROM {KEPT} WHERE r.{OPEN_SQL} UNION SELECT id FROM compact ORDER BY 1"
            )
        ]

    def servers(self) -> list[ServerState]:
        return []

    def record(self, id: int) -> Record:
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
            self._routes(message.arrived),
        )

    def _routes(self, since: float) -> list[tuple[float, list[CarrierThen]]]:
        """The routing rules at an instant, and each change since."""
        rows = self._rows(
            "SELECT at, facts FROM journal WHERE event = 'routes' AND at >= coalesce("
            "(SELECT max(at) FROM journal WHERE event = 'routes' AND at <= ?), 0) ORDER BY at",
            since,
        )
        return [(at, list(map(CarrierThen._make, json.loads(facts)["connectors"]))) for at, facts in rows]
