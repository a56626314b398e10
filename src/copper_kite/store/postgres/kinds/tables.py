"""The open transaction, as the kinds of operations write into it."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Any

from copper_kite.store.postgres.link import Database
from copper_kite.store.shared.counting import Counts, KnownKeys, by_minute
from copper_kite.store.shared.encoding import Row
from copper_kite.store.shared.shared_buffer import SUM_OCTETS

__all__ = ["CHANNEL", "Apply", "Tables", "dumps"]

CHANNEL = "kite_orders"  # on which servers hear that something waits for them

dumps = json.JSONEncoder(separators=(",", ":"), ensure_ascii=False).encode


class Tables:
    """The tables, as one server writes them: `slot` is its number. `octets` has the content that the rows speak of."""

    def __init__(self, connection: Database, slot: int, octets: memoryview | bytearray) -> None:
        self.connection = connection
        self.slot = slot
        self.octets = octets
        self._cursor = connection.cursor()
        self._known = KnownKeys()

    def add(self, table: str, columns: str, rows: Sequence[Sequence[Any]]) -> None:
        """Add rows with all of these columns."""
        if rows:
            self.many(f"INSERT INTO {table} ({columns}) VALUES ({', '.join(['%s'] * len(rows[0]))})", rows)

    def many(self, statement: str, rows: Iterable[Sequence[Any]]) -> None:
        """Carry out a statement for each row, without waiting for the one before."""
        self._cursor.executemany(statement, rows)

    def do(self, statement: str, *values: Any) -> None:
        """Carry out a statement."""
        self.connection.execute(statement, values)

    def portion(self, start: int, size: int) -> tuple[int, bytes]:
        """The sum of a portion, and its octets."""
        end = start + size
        return int.from_bytes(self.octets[end : end + SUM_OCTETS], "big"), bytes(self.octets[start:end])

    def count(self, counts: Counts, instants: Mapping[tuple[str, str], Sequence[float]]) -> None:
        """Add to the counts by the hour, and to those by the minute: for a connector and a word of `Tally`, the
        instants (seconds since 1970), one a recipient."""
        for hour in {key[0] for key in counts}:
            if not self._known.has(hour):
                self._known.take_up(hour, self.connection.execute(_KEYS, (hour, self.slot)))
        if counts:
            bounded: Counts = {}
            for key, (recipients, octets) in counts.items():
                sums = bounded.setdefault(self._known.bounded(key), [0, 0])
                sums[0] += recipients
                sums[1] += octets
            self.many(_ADD_HOURLY, [(*key, self.slot, *of) for key, of in bounded.items()])
        minutes = [
            (minute, connector, outcome, self.slot, count)
            for (connector, outcome), at in instants.items()
            for minute, count in by_minute(at)
        ]
        if minutes:
            self.many(_ADD_TALLY, minutes)


Apply = Callable[[Tables, Sequence[Row]], None]

_KEYS = (
    "SELECT hour, outcome, connector, next_hop, who, domain, reason, delay FROM hourly WHERE hour = %s AND server = %s"
)
_ADD_HOURLY = (
    "INSERT INTO hourly VALUES (%s, %s, %s, %s, %s, %s, %s, %s, %s, %s, %s)"
    " ON CONFLICT (hour, outcome, connector, next_hop, who, domain, reason, delay, server) DO UPDATE"
    " SET recipients = hourly.recipients + excluded.recipients, octets = hourly.octets + excluded.octets"
)
_ADD_TALLY = (
    "INSERT INTO tally VALUES (%s, %s, %s, %s, %s) ON CONFLICT (minute, connector, outcome, server)"
    " DO UPDATE SET count = tally.count + excluded.count"
)
