"""The display of recipients in a stopped lane: nothing is written for each of them, as the reason belongs to the lane.

They are queued, and shown as delayed by what stopped the lane; those that were tried before keep their own reply.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence

from copper_kite.store.facts import AttemptFacts, RecipientResult
from copper_kite.store.model import Attempt, LaneStop, Message, Recipient
from copper_kite.words import State

__all__ = ["DOMAIN", "NONE_STOPPED", "StoppedLanes"]

# After the last @. What trims is every character of the address but @.
DOMAIN = "lower(substr(r.address, length(rtrim(r.address, replace(r.address, '@', ''))) + 1))"
_LANE = f"FROM lane l WHERE l.connector = r.connector AND l.domain = {DOMAIN}"


class StoppedLanes:
    """The stopped lanes, by connector and domain; false where there are none."""

    def __init__(self, stops: Iterable[LaneStop]) -> None:
        self._stops = {(stop.connector, stop.domain): stop for stop in stops}

    def __bool__(self) -> bool:
        return bool(self._stops)

    def of(self, connector: str, address: str) -> LaneStop | None:
        """The stop that a recipient's lane is under; None where it moves."""
        stop = self._stops.get((connector, ""))
        return stop or self._stops.get((connector, address.rpartition("@")[2].lower()))

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

    def shown(self, recipient: Recipient) -> Recipient:
        """A recipient as people see it."""
        if not self._stops or recipient.state not in (State.QUEUED, State.DELAYED):
            return recipient
        stop = self.of(recipient.connector, recipient.address)
        if stop is None:
            return recipient
        if recipient.state is State.DELAYED:
            later = max(recipient.next_try or 0.0, stop.until)
            return recipient._replace(next_try=_instant(later))
        return recipient._replace(
            state=State.DELAYED,
            reply=stop.text,
            next_hop=stop.next_hop,
            next_try=_instant(stop.until),
            changed=stop.at,
        )

    def waits(self, message: Message, recipients: Sequence[Recipient]) -> list[Attempt]:
        """The history entry of recipients that only wait: like an attempt, which was another message's."""
        results: dict[LaneStop, list[str]] = {}
        for recipient in recipients:
            stop = self.of(recipient.connector, recipient.address)
            if stop is not None and recipient.state is State.QUEUED:
                results.setdefault(stop, []).append(recipient.address)
        return [_wait(message, stop, addresses) for stop, addresses in results.items()]


def _wait(message: Message, stop: LaneStop, addresses: Sequence[str]) -> Attempt:
    reply = "" if stop.code is None else stop.text
    results = [RecipientResult(to, State.DELAYED.value, stop.stage, reply) for to in addresses]
    return Attempt(
        id=0,
        message=message.id,
        at=max(stop.since, message.arrived),
        seconds=0.0,
        connector=stop.connector,
        next_hop=stop.next_hop,
        address=stop.address,
        stage=stop.stage,
        side=stop.side,
        cause=stop.cause,
        code=stop.code,
        enhanced=stop.enhanced,
        text=stop.text,
        facts=AttemptFacts(results),
        dialogue=None,
    )


_OF_LANE = {
    "state": f"'{State.DELAYED.value}'",
    "reply": "l.text",
    "next_hop": "l.next_hop",
    "next_try": "nullif(l.until, 9e999)",  # infinite
}


def _of_stop(stop: LaneStop, column: str) -> str:
    """The same as a constant."""
    if column == "next_try":
        until = _instant(stop.until)
        return "NULL" if until is None else repr(until)
    return _quoted({"state": State.DELAYED.value, "reply": stop.text, "next_hop": stop.next_hop}[column])


def _quoted(text: str) -> str:
    """Text as a constant, whatever is in it."""
    return f"CAST(x'{text.encode().hex()}' AS TEXT)"


def _instant(at: float) -> float | None:
    return at if math.isfinite(at) else None


NONE_STOPPED = StoppedLanes(())
