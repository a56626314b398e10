"""One connector at work: the jobs that wait for it, and the sessions that carry them.

Sessions are kept open and reused for many messages. A new one is opened only while jobs wait and no other is being
opened. While no next hop can be had, jobs are held: one attempt at a time finds out when it is over.
"""

from __future__ import annotations

import asyncio
import contextlib
from collections import deque
from collections.abc import Callable, Collection, Iterable
from typing import Protocol

from copper_kite.errors import ContentUnreadable, SessionFailed
from copper_kite.mail.sevenbit import to_seven_bits
from copper_kite.net.client import ClientSession
from copper_kite.net.dialogue import Dialogue
from copper_kite.net.plan import Plan
from copper_kite.relay.delivery import Report, Stop, unfit
from copper_kite.relay.hops import Down, Hops
from copper_kite.relay.job import Job
from copper_kite.routing.choose import fits
from copper_kite.settings.model import Connector
from copper_kite.settings.units import Endpoint
from copper_kite.smtp.transaction import Envelope, Result, too_many
from copper_kite.words import Cause, Stage

__all__ = ["Lane", "Sink"]

IDLE_SECONDS = 5.0  # an open session without work is closed after this
GROW_AGAIN_SECONDS = 60.0  # after a next hop refused one more session


class Sink(Protocol):
    """Where reports go. The future is done when the report is on stable storage."""

    def report(self, plan: Plan | None, report: Report) -> asyncio.Future[None]:
        """Record what an attempt found."""

    def give_back(self, job: Job) -> None:
        """Take back a job that a retired lane did not begin."""

    def divided(self, job: Job) -> None:
        """A job's message has one job more now."""

    def hold(self, job: Job, down: Down) -> None:
        """Record that a job waits, without an attempt, since no next hop can be had."""


class Lane:
    """The waiting jobs and the sessions of one connector. `now` gives seconds since 1970."""

    def __init__(
        self, connector: Connector, hops: Hops, sink: Sink, now: Callable[[], float], next_hop: Endpoint | None = None
    ) -> None:
        self._loop = asyncio.get_running_loop()
        self.next_hop = next_hop or connector.next_hop
        self.max_sessions = connector.sessions
        self.hops = hops
        self.pace = connector.pace
        self.sender, self.sender_keeps = connector.sender, connector.sender_keeps
        self._next_start = 0.0  # on the loop's clock, when messages have a pace
        self._sink = sink
        self._now = now
        self._jobs: deque[Job] = deque()
        self._idle: deque[asyncio.Future[Job | None]] = deque()
        self._workers: set[asyncio.Task[None]] = set()
        self._open = 0
        self._opener: asyncio.Task[None] | None = None  # while a session is being opened
        self._grow_after = 0.0
        self._stopping = False
        self._retired = False

    def add(self, job: Job) -> None:
        """Have `job` carried, by an idle session if there is one."""
        self._address(job)
        while self._idle:
            future = self._idle.popleft()
            if not future.done():
                future.set_result(job)
                return
        if not self._open and self._opener is None and (down := self.hops.down(self._now())) is not None:
            self._sink.hold(job, down)
            return
        self._jobs.append(job)
        self._grow()

    def _address(self, job: Job) -> None:
        """Have a job leave under the connector's own sender, if it has one."""
        if self.sender:
            taken = [self.sender, *self.sender_keeps]
            job.leave_under(self.sender, lambda path: fits(taken, path))

    def _grow(self) -> None:
        if (
            self._jobs
            and self._opener is None
            and not self._stopping
            and len(self._workers) < self.max_sessions
            and (self._open == 0 or self._loop.time() >= self._grow_after)
        ):
            task = self._opener = self._loop.create_task(self._work())
            self._workers.add(task)
            task.add_done_callback(self._worker_done)

    def _worker_done(self, task: asyncio.Task[None]) -> None:
        self._workers.discard(task)
        if not task.cancelled() and task.exception() is not None:
            self._loop.call_exception_handler({"message": "a session ended in a bug", "exception": task.exception()})
        self._grow()

    def retire(self) -> list[Job]:
        """Take no more: sessions finish the message in hand and close. Returns what waited."""
        self._stopping = self._retired = True
        self.hops.stop()
        waiting, self._jobs = list(self._jobs), deque()
        while self._idle:
            _give_nothing(self._idle.popleft())
        return waiting

    def fits(self, connector: Connector) -> bool:
        """Whether it goes on as it is under these settings, its next hops apart."""
        return (self.max_sessions, self.pace, self.hops.spread, self.sender, self.sender_keeps) == (
            connector.sessions,
            connector.pace,
            connector.spread,
            connector.sender,
            connector.sender_keeps,
        )

    @property
    def at_work(self) -> bool:
        """Whether a session is still open or being opened."""
        return bool(self._workers)

    def _put_back(self, job: Job) -> None:
        """A job that was taken and not begun."""
        if self._retired:
            self._sink.give_back(job)
        else:
            self._jobs.appendleft(job)

    async def stop(self, seconds: float) -> None:
        """Let each session finish the message in hand, then end it; after `seconds`, cut what is left.

        A session that is still being opened has none in hand: it is not waited for.
        """
        self._stopping = True
        self.hops.stop()
        self._jobs.clear()
        while self._idle:
            _give_nothing(self._idle.popleft())
        if self._opener is not None:
            self._opener.cancel()
        if self._workers:
            await asyncio.wait(self._workers, timeout=seconds)
        left = list(self._workers)
        for task in left:
            task.cancel()
        await asyncio.gather(*left, return_exceptions=True)

    async def _next_job(self) -> Job | None:
        """The next job; None when none comes for a while, or when all ends."""
        if self._stopping:
            return None
        if self._jobs:
            return self._jobs.popleft()
        future: asyncio.Future[Job | None] = self._loop.create_future()
        self._idle.append(future)
        timer = self._loop.call_later(IDLE_SECONDS, _give_nothing, future)
        try:
            return await future
        finally:
            timer.cancel()
            with contextlib.suppress(ValueError):
                self._idle.remove(future)

    async def _work(self) -> None:
        """One session's life: open, carry jobs, close."""
        session = await self._open_session()
        if session is None:
            return
        self._grow()
        recorded: asyncio.Future[None] | None = None
        following = _Following(self, session)
        try:
            while session.usable and not session.spent:
                job, fits = following.take(), True
                if job is None:
                    job, fits = await self._next_job(), False
                if job is None:
                    break
                if not session.usable:  # it went away while it was idle; the job is none the worse for it
                    self._put_back(job)
                    break
                recorded = await self._carry(session, job, recorded, following, fits=fits)
            if recorded is not None:
                await recorded
            if session.usable:
                await session.close()
        finally:
            if (job := following.take()) is not None:
                self._put_back(job)
            self._open -= 1
            session.abort()

    def next_waiting(self, session: ClientSession) -> Job | None:
        """A job that waits and that this session's next hop can take, or None."""
        if self._stopping or self.pace is not None or not self._jobs or session.spent:
            return None
        envelope = self._jobs[0].envelope
        if self._unfit(envelope, session) is not None or _surplus(envelope, session):
            return None
        return self._jobs.popleft()

    def _unfit(self, envelope: Envelope, session: ClientSession) -> Stop | None:
        return unfit(envelope, session.capabilities, proven=session.verified and self.hops.proven)

    def _divide(self, job: Job, apart: Collection[str]) -> Job:
        """Have those recipients `apart` carried by the next transaction; what is left."""
        ours, theirs = job.divided(apart)
        self._sink.divided(job)
        for part in (ours, theirs):
            self._address(part)
        self._put_back(theirs)
        return ours

    async def _open_session(self) -> ClientSession | None:
        """A session ready for messages. When none can be had, the waiting jobs are reported and None comes back."""
        began, start = self._now(), self._loop.time()
        dialogue = Dialogue(start)
        try:
            session = await self.hops.open(dialogue, began)
        except SessionFailed as failure:
            if self._open:
                self._grow_after = self._loop.time() + GROW_AGAIN_SECONDS
                return None
            self._none_to_be_had(failure, began, self._loop.time() - start, dialogue)
            return None
        finally:
            self._opener = None
        self._open += 1
        return session

    def _none_to_be_had(self, failure: SessionFailed, began: float, seconds: float, dialogue: Dialogue) -> None:
        """The attempt is the first job's; the others wait for the next one with it."""
        down = self.hops.down(began)
        stop = Stop.of(failure)
        if down is not None:
            stop.facts["until"] = down.until
        waiting, self._jobs = self._jobs, deque()
        for number, job in enumerate(waiting):
            if number and down is not None:
                self._sink.hold(job, down)
            else:
                plan = next(iter(self.hops.plans), None)
                self._sink.report(plan, Report(job, began, seconds, stop=stop, dialogue=dialogue))

    def _report(self, report: Report, plan: Plan) -> asyncio.Future[None]:
        return self._sink.report(plan, report)

    async def _keep_pace(self, interval: float) -> None:
        """Wait for the next start, whichever session it is for."""
        now = self._loop.time()
        self._next_start = max(self._next_start, now) + interval
        await asyncio.sleep(self._next_start - interval - now)

    async def _carry(
        self,
        session: ClientSession,
        job: Job,
        recorded: asyncio.Future[None] | None,
        following: _Following,
        *,
        fits: bool,
    ) -> asyncio.Future[None] | None:
        """Hand one job over; `fits` says that it was looked whether the next hop can take it.

        Its content does not go before the result of the last one is on stable storage (`recorded`): so a crash can
        cost at most one extra copy for each session.
        """
        if self.pace is not None:
            await self._keep_pace(self.pace.interval)
        began, start = self._now(), self._loop.time()
        mark = session.dialogue.mark()
        if not fits and (surplus := _surplus(job.envelope, session)):
            job = self._divide(job, surplus)
        stop = None if fits else self._unfit(job.envelope, session)
        results: tuple[Result, ...] = ()
        try:
            envelope, content = job.envelope, job.outgoing
            if stop is not None and stop.cause is Cause.NEEDS_8BITMIME:
                stop, envelope, content = _in_seven_bits(stop, job)
            if stop is None:
                results = await session.relay(envelope, content, recorded, following.choose)
        except ContentUnreadable as error:
            session.abort()  # in the middle of a message that cannot be ended
            stop = Stop(stage=Stage.CONTENT, cause=Cause.CONTENT_UNREADABLE, text=error.problem)
        except SessionFailed as failure:
            if failure.facts["untried"]:  # the next hop closed behind the message before: no fault of this one's
                self._put_back(job)
                return recorded
            stop, results = Stop.of(failure), failure.facts["results"]
        if apart := too_many(results):
            job = self._divide(job, apart)
            results = tuple(result for result in results if result.recipient not in apart)
        report = Report(job, began, self._loop.time() - start, results, stop, session, session.dialogue)
        done = self._report(report, session.plan)
        session.dialogue.cut(mark)
        return done


def _surplus(envelope: Envelope, session: ClientSession) -> tuple[str, ...]:
    """The recipients that the next hop does not take in one transaction (RFC 9422 4)."""
    return envelope.recipients[session.capabilities.most_recipients :] if session.capabilities.most_recipients else ()


def _in_seven_bits(stop: Stop, job: Job) -> tuple[Stop | None, Envelope, Callable[[], Iterable[bytes]]]:
    """A job's message converted for a next hop without 8BITMIME, where that can be done (RFC 6152 3)."""
    converted = to_seven_bits(b"".join(job.outgoing()))
    if converted is None:
        return stop, job.envelope, job.outgoing
    return None, job.envelope._replace(size=len(converted), eight_bit=False), lambda: (converted,)


class _Following:
    """The job whose first commands went out with the content of the one before it."""

    def __init__(self, lane: Lane, session: ClientSession) -> None:
        self._lane = lane
        self._session = session
        self._job: Job | None = None

    def choose(self) -> Envelope | None:
        """Take the next waiting job for this session, if there is one; its envelope."""
        self._job = self._lane.next_waiting(self._session)
        return None if self._job is None else self._job.envelope

    def take(self) -> Job | None:
        """The job chosen, once."""
        job, self._job = self._job, None
        return job


def _give_nothing(future: asyncio.Future[Job | None]) -> None:
    if not future.done():
        future.set_result(None)
