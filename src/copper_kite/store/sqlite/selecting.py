"""The condition for selected recipients on the tables `recipient r` and `message m`.

A message is in those two tables, or in the one row of `compact`, which two views show as rows of the same columns. What
looks at both is written once, with names in braces for what differs (`sources`).
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from copper_kite.store.model import Selection
from copper_kite.store.shared.encoding import PORTION_BITS, PORTIONS
from copper_kite.store.shared.patterns import address_pattern, escaped_text
from copper_kite.store.sqlite.stopped import NONE_STOPPED, SqliteStoppedLanes
from copper_kite.words import OPEN, State

__all__ = ["KEPT", "OPEN_SQL", "condition", "sources"]

OPEN_SQL = "state IN ('queued', 'delayed', 'parked')"
# The recipients of which there is content. There is some as long as one of a message's recipients is open, and hardly
# longer: so the table of content is the list of what is open, and what comes in need not be put into another one.
KEPT = f"content c CROSS JOIN recipient r ON r.message = c.place >> {PORTION_BITS} AND c.place & {PORTIONS} = 0"

_COMPACT = {
    "recipients": "compact_recipient r", "recipient": "compact_recipient", "message": "compact_message",
    "id": "r.message",
}  # fmt: skip
_SETTLED = {"recipients": "recipient r", "recipient": "recipient", "message": "message", "id": "r.message"}

_PART = "LIKE '%' || {} || '%' ESCAPE '\\'"
# Searches over both tables look at each of them alone: a join first would take three times as long.
_ANYONE = (
    "r.message IN (SELECT message FROM {recipient} WHERE address LIKE ?1 ESCAPE '\\'"
    " UNION ALL SELECT id FROM {message} WHERE reverse_path LIKE ?1 ESCAPE '\\')"
)
_TEXT = (
    f"r.message IN (SELECT message FROM {{recipient}} WHERE address {_PART.format('?1')} OR reply {_PART.format('?1')}"
    f" UNION ALL SELECT id FROM {{message}} WHERE subject {_PART.format('?1')} OR message_id {_PART.format('?1')}"
    f" OR reverse_path {_PART.format('?1')})"
)


def sources(selection: Selection, *, stopped: SqliteStoppedLanes = NONE_STOPPED) -> list[dict[str, str]]:
    """Where those meant can be, as what the names in braces stand for; `id` tells the messages in the order in which
    they come. Where lanes are `stopped`, what is queued in them is delayed."""
    states = set(selection.states or OPEN)
    if stopped and State.DELAYED in states:
        states.add(State.QUEUED)
    settled = _SETTLED if selection.ids or not states <= set(OPEN) else _SETTLED | {"recipients": KEPT, "id": "c.place"}
    return [_COMPACT, settled] if State.QUEUED in states else [settled]


def condition(selection: Selection, *, stopped: SqliteStoppedLanes = NONE_STOPPED) -> tuple[str, list[Any]]:
    """The condition in SQL, with names in braces for where it looks, and its values.

    Where lanes are `stopped`, it is on what people are shown of those that wait in them.
    """
    states = selection.states or OPEN
    state, reply, next_hop = (stopped.sql(name) for name in ("state", "reply", "next_hop"))
    where, values = [f"{state} IN ({','.join('?' * len(states))})"], [state.value for state in states]
    if selection.ids:
        where.append(f"r.message IN ({','.join(str(int(id)) for id in selection.ids)})")
    given: Sequence[tuple[str, Any]] = (
        ("r.address LIKE ? ESCAPE '\\'", address_pattern(selection.to)),
        ("m.reverse_path LIKE ? ESCAPE '\\'", address_pattern(selection.sender)),
        (_ANYONE, address_pattern(selection.anyone)),
        (_TEXT, escaped_text(selection.text)),
        ("r.connector = ?", selection.connector),
        (f"reason({reply}) {_PART.format('?')}", escaped_text(selection.reason)),
        (f"{next_hop} {_PART.format('?')}", escaped_text(selection.next_hop)),
        (f"m.subject {_PART.format('?')}", escaped_text(selection.subject)),
        ("? IN (m.user, m.client)", selection.who),
        ("m.arrived <= ?", selection.older),
        ("m.size >= ?", selection.larger),
        ("m.arrived >= ?", selection.since),
        ("m.message_id = ?", selection.message_id),
    )
    for sql, value in given:
        if value not in ("", None):
            values.append(value)
            where.append(sql.replace("?1", f"?{len(values)}"))
    return " AND ".join(where), values
