"""Measurements of one run: the queue over time, delays, notices, expired recipients."""

from __future__ import annotations

import math
from array import array
from collections import Counter, defaultdict
from dataclasses import dataclass, field
from statistics import median

from copper_kite.rehearsal.arrivals import Arrival
from copper_kite.rehearsal.queue import Ended, MemoryQueue
from copper_kite.store import LaneStop
from copper_kite.words import Cause, State

__all__ = ["SAMPLES", "Measures", "Stopped"]

SAMPLES = 288  # of the period in which messages arrive

Key = tuple[str, str]


@dataclass(slots=True)
class Stopped:
    """A span in which a lane did not move: which, why, since when and until when (None: to the end)."""

    connector: str
    domain: str
    cause: str
    since: float
    until: float | None = None


@dataclass(slots=True)
class Measures:
    """Of one run. Delays are in seconds, from submission to the next hop's reply, by sender and priority (RFC 6710);
    samples are taken every `step` seconds from `since` on. `trouble` is from when to when the scenario has any."""

    since: float
    step: float
    trouble: tuple[float, float] | None
    delays: dict[tuple[str, int], array[float]] = field(default_factory=lambda: defaultdict(lambda: array("d")))
    waiting: array[int] = field(default_factory=lambda: array("q"))  # at each sample: recipients that are open
    peaks: array[int] = field(default_factory=lambda: array("q"))  # the same: the most since the sample before
    ages: array[float] = field(default_factory=lambda: array("d"))  # the same: seconds since the oldest arrived
    rates: array[int] = field(default_factory=lambda: array("q"))  # relayed from the sample before to this one
    submitted: int = 0  # recipients, notices not counted
    relayed: int = 0
    expired: int = 0  # recipients whose lifetime ended
    refused: int = 0  # recipients that failed by a reply
    delay_notices: int = 0
    failure_notices: int = 0
    attempts: int = 0  # of recipients that have ended
    largest: int = 0
    largest_at: float = 0.0
    empty_at: float | None = None  # when the queue was as short as usual again, after the last trouble
    stops: list[Stopped] = field(default_factory=list)
    offered: Counter[str] = field(default_factory=Counter)  # recipients that have ended, by connector
    noticed: Counter[str] = field(default_factory=Counter)  # notices by whose message they are about
    last_end: float = 0.0
    _stopped: dict[Key, Stopped] = field(default_factory=dict)
    _usual: float = 0.0
    _looking: bool = False
    _sampled_relayed: int = 0
    _peak: int = 0

    # --- while it runs ------------------------------------------------------------------------------------------------

    def count(self, recipients: int, now: float) -> None:
        """So many recipients are open, the last of them since now."""
        if recipients > self._peak:
            self._peak = recipients
            if recipients > self.largest:
                self.largest, self.largest_at = recipients, now

    def relayed_new(self, connector: str, arrival: Arrival, now: float, recipients: int) -> None:
        """A message to one recipient was relayed by its first attempt, and so many are open."""
        self.last_end = now
        self.offered[connector] += 1
        self.attempts += 1
        self.relayed += 1
        self.delays[arrival.who, arrival.priority].append(now - arrival.at)
        if self._looking and recipients <= self._usual:
            self.empty_at, self._looking = now, False

    def ended(self, end: Ended, recipients: int) -> None:
        """A recipient ended, and so many are open."""
        message, recipient, state, at, attempts = end
        self.last_end = at
        if not message.listener:  # a notice of the server's own
            return
        self.offered[recipient.connector] += 1
        self.attempts += attempts
        if state is State.RELAYED:
            self.relayed += 1
            who = message.user or message.client
            self.delays[who, message.priority].append(at - message.arrived)
        elif at >= message.expires:
            self.expired += 1
        else:
            self.refused += 1
        if self._looking and recipients <= self._usual:
            self.empty_at, self._looking = at, False

    def moved(self, key: Key, stop: LaneStop | None, now: float) -> None:
        """A lane stopped, for a reason, or moves again."""
        if stop is None:
            if (stopped := self._stopped.pop(key, None)) is not None:
                stopped.until = now
                if self.trouble is None:  # the only trouble is what the load itself makes
                    self._look(math.inf)
        elif key not in self._stopped:
            stopped = self._stopped[key] = Stopped(*key, stop.cause, now)
            self.stops.append(stopped)
        elif self._stopped[key].cause != stop.cause:
            self._stopped[key].cause = stop.cause

    def trouble_over(self) -> None:
        """The last trouble is over: from now on, the queue may be empty again."""
        assert self.trouble is not None
        self._look(self.trouble[0])

    def _look(self, before: float) -> None:
        first = min((stop.since for stop in self.stops), default=before)
        places = max(int((min(first, before) - self.since) / self.step), 0)
        self._usual = median(self.waiting[:places]) if places else 0.0
        self.empty_at, self._looking = None, True

    def sample(self, queue: MemoryQueue, now: float) -> None:
        """Keep what the queue is like now."""
        oldest = queue.oldest()
        self.waiting.append(queue.recipients)
        self.peaks.append(self._peak)
        self._peak = queue.recipients
        self.ages.append(now - oldest if oldest is not None else 0.0)
        self.rates.append(self.relayed - self._sampled_relayed)
        self._sampled_relayed = self.relayed

    # --- afterwards ---------------------------------------------------------------------------------------------------

    @property
    def notices(self) -> int:
        """Notices of delay and of failure."""
        return self.delay_notices + self.failure_notices

    @property
    def noticed_after(self) -> float | None:
        """How long after the last trouble the last lane that stood still then moved; None where none did."""
        if self.trouble is None:
            return None
        ends = self.trouble[1]
        late = [
            stop.until - ends
            for stop in self.stops
            if stop.since < ends and stop.until is not None and stop.until > ends
            if stop.cause not in (Cause.ALLOWANCE_USED.value, Cause.NO_CONNECTOR.value)
        ]
        return max(late, default=None)

    def spent(self, cause: Cause) -> list[Stopped]:
        """The spans in which lanes were stopped for a cause."""
        return [stop for stop in self.stops if stop.cause == cause.value]
