"""Messages and their content."""

from __future__ import annotations

from collections.abc import Sequence

from copper_kite.store.postgres.kinds.tables import CHANNEL, Tables
from copper_kite.store.shared.counting import count_additions, sum_taken
from copper_kite.store.shared.encoding import PORTION_BITS, PORTIONS, Row

__all__ = [
    "add_content",
    "add_messages",
    "drop_content",
    "extend_lifetimes",
    "forget",
    "hand_over",
]

_MESSAGE_NAMES = (
    "id, arrived, expires, reverse_path, size, eight_bit, utf8, message_id, listener, client, hello,"
    ' "user", protocol, esmtp_parameters, subject, priority, form, tls, owner'
)
_RECIPIENT_NAMES = (
    "message, number, address, state, attempts, next_try, connector, reply, changed, esmtp_parameters, next_hop, via"
)
_CONTENT_NAMES = "message, portion, sum, octets"


def add_messages(tables: Tables, rows: Sequence[Row]) -> None:
    """Add messages, with what of their content comes with them."""
    tables.add("message", _MESSAGE_NAMES, [(*row, tables.slot) for row, *_ in rows])
    tables.add(
        "recipient",
        _RECIPIENT_NAMES,
        [
            (row[0], number, address, "queued", 0, row[1], connector, "", row[1], parameters, "", "")
            for row, recipients, _, _ in rows
            for number, address, parameters, connector in recipients
        ],
    )
    whole = [(row[0], 0, *tables.portion(start, row[4])) for row, _, start, _ in rows if start is not None]
    tables.add("content", _CONTENT_NAMES, whole)
    if len(whole) < len(rows):
        tables.do("DELETE FROM growing WHERE message = ANY(%s)", [row[0] for row, _, start, _ in rows if start is None])
    _add_taken(tables, [taken for _, _, _, taken in rows])
    counts, instants = count_additions(rows)
    tables.count(counts, {("", "accepted"): instants})


def _add_taken(tables: Tables, taken: Sequence[Row]) -> None:
    sums = sum_taken(taken)
    if sums:
        tables.many(_ADD_TAKEN, [(*key, tables.slot, count) for key, count in sums.items()])


def add_content(tables: Tables, rows: Sequence[Row]) -> None:
    """Add portions, and note whose message is not there yet."""
    portions = [(where >> PORTION_BITS, where & PORTIONS, *tables.portion(start, size)) for where, start, size in rows]
    tables.add("content", _CONTENT_NAMES, portions)
    tables.do(_GROWS, list({where >> PORTION_BITS for where, _, _ in rows}))


def drop_content(tables: Tables, rows: Sequence[Row]) -> None:
    """Remove content."""
    ids = [id for (id,) in rows]
    tables.do("DELETE FROM content WHERE message = ANY(%s)", ids)
    tables.do("DELETE FROM growing WHERE message = ANY(%s)", ids)


def extend_lifetimes(tables: Tables, rows: Sequence[Row]) -> None:
    """Set the ends of lifetimes."""
    tables.many("UPDATE message SET expires = %s WHERE id = %s", [(expires, id) for id, expires in rows])


def hand_over(tables: Tables, rows: Sequence[Row]) -> None:
    """Give messages of this server to others, which are told."""
    for slot, ids in rows:
        tables.do(_HAND_OVER, slot, ids, tables.slot, slot)
    tables.do(f"NOTIFY {CHANNEL}")


def forget(tables: Tables, rows: Sequence[Row]) -> None:
    """Remove everything about messages."""
    ids = [id for (id,) in rows]
    for table in ("content", "recipient", "attempt", "journal"):
        tables.do(f"DELETE FROM {table} WHERE message = ANY(%s)", ids)
    tables.do("DELETE FROM message WHERE id = ANY(%s)", ids)


_HAND_OVER = (
    "WITH handed AS (UPDATE message SET owner = %s WHERE id = ANY(%s) AND owner = %s RETURNING id)"
    " INSERT INTO given SELECT s.slot, id FROM handed, server s WHERE s.slot = %s"
)
_GROWS = (
    "INSERT INTO growing SELECT g.id FROM unnest(%s::bigint[]) AS g (id)"
    " WHERE NOT EXISTS (SELECT 1 FROM message m WHERE m.id = g.id) ON CONFLICT DO NOTHING"
)
_ADD_TAKEN = (
    "INSERT INTO taken VALUES (%s, %s, %s, %s)"
    " ON CONFLICT (who, hour, server) DO UPDATE SET count = taken.count + excluded.count"
)
