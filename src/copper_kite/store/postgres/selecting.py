"""The condition for selected recipients, on the tables `recipient r`, `message m`, and what stops their lanes."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from copper_kite.store.model import Selection
from copper_kite.store.shared.patterns import address_pattern, escaped_text
from copper_kite.words import OPEN

__all__ = ["DOMAIN", "OPEN_SQL", "REASON", "SHOWN", "WITH_LANES", "condition", "source"]

OPEN_SQL = "state IN ('queued', 'delayed', 'parked')"
DOMAIN = "lower(substring(r.address from '[^@]*$'))"
# What stops all of a connector comes before what stops a domain of it; each server has its own.
# OFFSET 0 keeps the few rows apart: looked up by an index for each recipient, they would cost more than all the rest.
WITH_LANES = (
    " LEFT JOIN (SELECT * FROM lane WHERE domain = '' OFFSET 0) la"
    " ON la.server = m.owner AND la.connector = r.connector"
    " LEFT JOIN (SELECT * FROM lane WHERE domain <> '' OFFSET 0) ld"
    f" ON ld.server = m.owner AND ld.connector = r.connector AND ld.domain = {DOMAIN}"
)
_STOPPED = "r.state = 'queued' AND (la.connector IS NOT NULL OR ld.connector IS NOT NULL)"
_OF_LANE = f"CASE WHEN {_STOPPED} THEN {{}} ELSE r.{{}} END"
# Columns of a recipient as people are shown them: one that waits in a lane that does not move is delayed by that.
SHOWN = {
    "state": _OF_LANE.format("'delayed'", "state"),
    "reply": _OF_LANE.format("coalesce(la.text, ld.text)", "reply"),
    "next_hop": _OF_LANE.format("coalesce(la.next_hop, ld.next_hop)", "next_hop"),
    "next_try": _OF_LANE.format("nullif(coalesce(la.until, ld.until), 'infinity')", "next_try"),
}
# A reply without what differs between those that were tried and those that only wait with them.
REASON = r"regexp_replace({}, ' \(\S+ is down since .{{31}}\)$', '')"
_PART = "ILIKE '%%' || {} || '%%'"


def source(selection: Selection) -> str:
    """Where those meant are: among what there is content of, as long as only open ones are meant."""
    if selection.ids or not set(selection.states or OPEN) <= set(OPEN):
        return "recipient r JOIN message m ON m.id = r.message"
    return "content c JOIN recipient r ON r.message = c.message AND c.portion = 0 JOIN message m ON m.id = r.message"


def condition(selection: Selection) -> tuple[str, dict[str, Any]]:
    """The condition in SQL, with its values by name."""
    states = [state.value for state in selection.states or OPEN]
    where, values = [f"{SHOWN['state']} = ANY(%(states)s)"], dict[str, Any](states=states)
    if selection.ids:
        where.append("r.message = ANY(%(ids)s)")
        values["ids"] = list(selection.ids)
    given: Sequence[tuple[str, str, Any]] = (
        ("to", "r.address ILIKE %(to)s", address_pattern(selection.to)),
        ("sender", "m.reverse_path ILIKE %(sender)s", address_pattern(selection.sender)),
        (
            "anyone",
            "(r.address ILIKE %(anyone)s OR m.reverse_path ILIKE %(anyone)s)",
            address_pattern(selection.anyone),
        ),
        ("text", _TEXT, escaped_text(selection.text)),
        ("connector", "r.connector = %(connector)s", selection.connector),
        ("reason", f"{REASON.format(SHOWN['reply'])} {_PART.format('%(reason)s')}", escaped_text(selection.reason)),
        ("next_hop", f"{SHOWN['next_hop']} {_PART.format('%(next_hop)s')}", escaped_text(selection.next_hop)),
        ("subject", f"m.subject {_PART.format('%(subject)s')}", escaped_text(selection.subject)),
        ("who", '%(who)s IN (m."user", m.client)', selection.who),
        ("older", "m.arrived <= %(older)s", selection.older),
        ("larger", "m.size >= %(larger)s", selection.larger),
        ("since", "m.arrived >= %(since)s", selection.since),
        ("message_id", "m.message_id = %(message_id)s", selection.message_id),
    )
    for name, sql, value in given:
        if value not in ("", None):
            values[name] = value
            where.append(sql)
    return " AND ".join(where), values


_ANYONE = "(r.address ILIKE %(anyone)s OR m.reverse_path ILIKE %(anyone)s)"
_TEXT = "(" + " OR ".join(
    f"{column} {_PART.format('%(text)s')}"
    for column in ("r.address", "r.reply", "m.subject", "m.message_id", "m.reverse_path")
) + ")"  # fmt: skip
