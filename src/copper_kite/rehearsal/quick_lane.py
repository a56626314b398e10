"""A lane whose sessions are callbacks: the same decisions, at a fraction of the work.

`Lane` carries jobs in coroutines, since sockets need them. In a rehearsal a session only takes time, so a timer is
enough, and no content is prepared. Decisions stay in `Lane`: when to open or give up a session, which job is next, what
a broken session means. `tests/rehearsal/test_quick.py` compares the two.
"""

from __future__ import annotations

import asyncio
from collections import deque
from collections.abc import Sequence
from typing import Any, Protocol

from copper_kite.net import SessionFailed
from copper_kite.rehearsal.arrivals import Arrival
from copper_kite.rehearsal.loop import SimulatedLoop
from copper_kite.rehearsal.next_hops import ModelSession
from copper_kite.relay import IDLE_SECONDS, AttemptFailure, Job, Lane, Report, Session
from copper_kite.smtp import Result
from copper_kite.words import Stage

__all__ = ["Owner", "QuickLane"]


class Owner(Protocol):
    """The run that owns the lanes."""

    lanes: dict[tuple[str, str], QuickLane]

    def relayed(self, report: Report) -> None:
        """An attempt relayed its message to all recipients of its job."""

    def relayed_new(self, key: tuple[str, str], arrival: Arrival) -> None:
        """A message that needed no job is relayed."""

    def enter(self, lane: QuickLane, arrival: Arrival, id: int) -> Job:
        """A message that began without one gets a job, and a place in the queue."""


class QuickLane(Lane):
    """A lane of a rehearsal."""

    def __init__(self, owner: Owner, *settings: Any) -> None:
        super().__init__(*settings)
        self.owner = owner
        self.waiting_carriers: deque[_Carrier] = deque()
        owner.lanes[self.key] = self

    @property
    def takes_at_once(self) -> bool:
        """Whether an idle session waits for a message, and nothing is before it."""
        return bool(self.waiting_carriers) and not self.jobs and not self.stopping and not self.has_pace

    def carry_new(self, arrival: Arrival, id: int) -> None:
        """Carry a message that has just come, to one recipient, with an idle session."""
        self.load.jobs += 1
        self.waiting_carriers.popleft().begin_new(arrival, id)

    def add(self, job: Job) -> None:
        """Carry `job`, with an idle session if there is one."""
        if self.waiting_carriers:
            self.waiting_carriers.popleft().begin(job)
        else:
            super().add(job)

    async def carry_jobs(self, session: Session) -> None:
        """Carry one job after the other, as long as there are any and the session can be used."""
        assert isinstance(session, ModelSession)
        carrier = _Carrier(self, session)
        carrier.go_on()
        await carrier.over


class _Carrier:
    """A session at work. `over` is done when it is to be closed."""

    def __init__(self, lane: QuickLane, session: ModelSession) -> None:
        loop = asyncio.get_running_loop()
        assert isinstance(loop, SimulatedLoop)
        self._loop = loop
        self._lane = lane
        self._session = session
        self._idle_since = 0.0
        self._watched = False  # whether a timer looks at how long it is idle
        self.over: asyncio.Future[None] = loop.create_future()

    def go_on(self) -> None:
        """Take the next job, or wait for one."""
        lane, session = self._lane, self._session
        if lane.stopping or (session.begun and (not session.usable or lane.is_done(session))):
            self._finish()
        elif lane.jobs:
            self.begin(lane.jobs.take())
        else:
            self._idle_since = self._loop.now
            lane.waiting_carriers.append(self)
            if not self._watched:
                self._watched = True
                self._loop.at(self._idle_since + IDLE_SECONDS, self._look)

    def _look(self) -> None:
        """End, where it has been idle for long enough."""
        self._watched = False
        if self.over.done() or self not in self._lane.waiting_carriers:
            return
        left = self._idle_since + IDLE_SECONDS - self._loop.now
        if left > 0:
            self._watched = True
            self._loop.at(self._loop.now + left, self._look)
        else:
            self._lane.waiting_carriers.remove(self)
            self._finish()

    def _finish(self) -> None:
        if not self.over.done():
            self.over.set_result(None)

    def begin(self, job: Job) -> None:
        """Carry a job, when its pace allows."""
        lane = self._lane
        if lane.jobs:
            lane.grow()
        lane.hops.look_again()
        if wait := lane.wait_for_pace():
            self._loop.call_later(wait, self._start, job)
        else:
            self._start(job)

    def _start(self, job: Job) -> None:
        now, session = self._loop.now, self._session
        session.carries = job.message.id, now
        self._loop.at(session.begin(job.message, job.recipients), self._end, job, now)

    def _end(self, job: Job, began: float) -> None:
        session = self._session
        session.carries = None
        try:
            results = session.end(job.message, job.recipients, began)
        except SessionFailed as failure:
            self._broke(job, began, failure)
        else:
            self._lane.note_carried(session)
            self._report(job, began, results)
        self.go_on()

    def _broke(self, job: Job, began: float, failure: SessionFailed) -> None:
        lane, session = self._lane, self._session
        lane.note_broken(session, failure)
        if lane.costs_nothing(session, failure):
            lane.put_back(job)
            return
        seconds, stop = self._loop.now - began, AttemptFailure.of(failure)
        lane.sink.report(session.plan, Report(job, began, seconds, failure.results, stop, session, session.dialogue))

    def _report(self, job: Job, began: float, results: Sequence[Result]) -> None:
        lane, session = self._lane, self._session
        report = Report(job, began, self._loop.now - began, results, None, session, session.dialogue)
        if any(result.stage is not Stage.ACCEPT for result in results):
            lane.sink.report(session.plan, report)
        else:  # what is recorded then is what `Recorder.relayed` makes of it
            lane.owner.relayed(report)

    # --- a message that needs no job ----------------------------------------------------------------------------------

    def begin_new(self, arrival: Arrival, id: int) -> None:
        """Carry a message that has just come."""
        self._lane.hops.look_again()
        now = self._loop.now
        self._loop.at(self._session.begin_at(arrival.at, 0), self._end_new, arrival, id, now)

    def _end_new(self, arrival: Arrival, id: int, began: float) -> None:
        lane, session = self._lane, self._session
        lane.load.jobs -= 1
        if session.accepts(arrival.at, arrival.recipients[0], began):
            session.carried += 1
            lane.note_carried(session)
            lane.owner.relayed_new(lane.key, arrival)
            self.go_on()
        else:  # it ends as any other
            self._end(lane.owner.enter(lane, arrival, id), began)
