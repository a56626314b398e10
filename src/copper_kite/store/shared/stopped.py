"""The display of recipients in a stopped lane: nothing is written for each of them, as the reason belongs to the lane.

They are queued, and shown as delayed by what stopped the lane; those that were tried before keep their own reply.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence

from copper_kite.store.facts import AttemptFacts, RecipientResult
from copper_kite.store.model import Attempt, LaneStop, Message, Recipient
from copper_kite.words import State

__all__ = ["StoppedLanes", "instant_or_none"]


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

    def shown(self, recipient: Recipient) -> Recipient:
        """A recipient as people see it."""
        if not self._stops or recipient.state not in (State.QUEUED, State.DELAYED):
            return recipient
        stop = self.of(recipient.connector, recipient.address)
        if stop is None:
            return recipient
        if recipient.state is State.DELAYED:
            later = max(recipient.next_try or 0.0, stop.until)
            return recipient._replace(next_try=instant_or_none(later))
        return recipient._replace(
            state=State.DELAYED,
            reply=stop.text,
            next_hop=stop.next_hop,
            next_try=instant_or_none(stop.until),
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


def instant_or_none(at: float) -> float | None:
    """An instant; None where it is infinite: until something changes."""
    return at if math.isfinite(at) else None
