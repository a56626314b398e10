"""The reasons of stopped lanes in the database's statements (see `store.shared.stopped`)."""

from __future__ import annotations

from copper_kite.store.model import LaneStop
from copper_kite.store.shared.stopped import StoppedLanes, instant_or_none
from copper_kite.words import State

__all__ = ["DOMAIN", "NONE_STOPPED", "SqliteStoppedLanes"]

# After the last @. What trims is every character of the address but @.
DOMAIN = "lower(substr(r.address, length(rtrim(r.address, replace(r.address, '@', ''))) + 1))"
_LANE = f"FROM lane l WHERE l.connector = r.connector AND l.domain = {DOMAIN}"


class SqliteStoppedLanes(StoppedLanes):
    """The stopped lanes, and how statements show what waits in them."""

    def sql(self, column: str, state: str = "r.state") -> str:
        """A column of `recipient r`, as people are shown it; `state` is what its own state is called.

        What stops all of a connector is written into the statement: looked up for each row, it would take longer than
        all the rest.
        """
        own = state if column == "state" else f"r.{column}"
        if not self._stops:
            return own
        cases = {name: f"iif(EXISTS (SELECT 1 {_LANE}), (SELECT {_OF_LANE[column]} {_LANE}), {own})"
                 for name, domain in self._stops if domain}  # fmt: skip
        cases |= {name: _of_stop(stop, column) for (name, domain), stop in self._stops.items() if not domain}
        when = " ".join(f"WHEN {_quoted(name)} THEN {value}" for name, value in cases.items())
        return f"CASE WHEN {state} = 'queued' THEN CASE r.connector {when} ELSE {own} END ELSE {own} END"


_OF_LANE = {
    "state": f"'{State.DELAYED.value}'",
    "reply": "l.text",
    "next_hop": "l.next_hop",
    "next_try": "nullif(l.until, 9e999)",  # infinite
}


def _of_stop(stop: LaneStop, column: str) -> str:
    """The same as a constant."""
    if column == "next_try":
        until = instant_or_none(stop.until)
        return "NULL" if until is None else repr(until)
    return _quoted({"state": State.DELAYED.value, "reply": stop.text, "next_hop": stop.next_hop}[column])


def _quoted(text: str) -> str:
    """Text as a constant, whatever is in it."""
    return f"CAST(x'{text.encode().hex()}' AS TEXT)"


NONE_STOPPED = SqliteStoppedLanes(())
