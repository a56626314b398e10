"""A lane: the jobs that wait for it, and the sessions that carry them.

Sessions are kept open and reused for many messages. A new one is opened only while jobs wait and no other is being
opened. While no next hop is reachable, jobs go back to where they wait: one attempt at a time probes it.

Every job that is taken ends in one place, `_carry`: with a report that is recorded, or back in the queue at no cost.
The latter only where a session that had carried other messages ended under it, where one session too many was refused,
or, after a pause, where the store is away. So what a next hop does cannot make a lane spin: each session is paid for by
a recorded attempt, by a message that was carried, or by a session fewer at once.
"""

from __future__ import annotations

import asyncio
from collections import deque
from collections.abc import Callable, Collection
from functools import partial

from copper_kite.errors import ContentUnreadable, StoreAway
from copper_kite.net import FAREWELL_SECONDS, Dialogue, SessionFailed
from copper_kite.relay.attempts_now import attempts_now
from copper_kite.relay.concurrency import Concurrency
from copper_kite.relay.delivery import AttemptFailure, HandOver, Report
from copper_kite.relay.following import Following
from copper_kite.relay.hops import Hops
from copper_kite.relay.job import Job, Load
from copper_kite.relay.lane_settings import LaneSessions, LaneSettings
from copper_kite.relay.lane_sink import Sink
from copper_kite.relay.network import Session
from copper_kite.relay.outgoing import Outgoing, prepare
from copper_kite.relay.signatures import Signatures
from copper_kite.relay.turns import Flow, Turns
from copper_kite.settings import Connector, Endpoint
from copper_kite.smtp import too_many
from copper_kite.store import AttemptNow, id_text
from copper_kite.words import Cause, Stage

__all__ = ["IDLE_SECONDS", "Lane"]

IDLE_SECONDS = 5.0  # an open session without work is closed after this
STORE_AWAY_SECONDS = 1.0  # before a session that found the store away is replaced
MOST_BARREN = 3  # sessions in a row that broke under their first message, until the next hop counts as down


class Lane:
    """The waiting jobs and the sessions of one connector. `now` gives seconds since 1970."""

    def __init__(
        self,
        connector: Connector,
        hops: Hops,
        sink: Sink,
        now: Callable[[], float],
        signatures: Signatures,
        next_hop: Endpoint | None = None,
        domain: str = "",
    ) -> None:
        self._loop = asyncio.get_running_loop()
        self._name = connector.name
        self._settings = LaneSettings.of(connector)
        self.key = (connector.name, domain)
        self.load = Load()
        self.next_hop = next_hop or connector.next_hop
        self.hops = hops
        self._next_start = 0.0  # on the loop's clock, when messages have a pace
        self.sink = sink
        self._now = now
        self._signatures = signatures
        self.jobs: Turns[Job] = Turns()
        self._idle: deque[asyncio.Future[Job | None]] = deque()
        self._workers: set[asyncio.Task[None]] = set()
        self._sessions: set[Session] = set()
        self._opener: asyncio.Task[None] | None = None  # while a session is being opened
        self._opening: tuple[float, Dialogue] | None = None  # since when, and what was said
        self._concurrency = Concurrency(connector.sessions)
        self._raiser: asyncio.TimerHandle | None = None  # for when one session more may be tried
        self._barren = 0  # sessions in a row that broke under their first message
        self.stopping = False
        self._retired = False

    # --- what comes in ----------------------------------------------------------------------------------------------

    def add(self, job: Job) -> None:
        """Carry `job`, with an idle session if there is one."""
        while self._idle:
            future = self._idle.popleft()
            if not future.done():
                future.set_result(job)
                return
        flow = job.flow
        self.jobs.append(flow, job)
        try:
            self.grow()
        except Exception:
            self.jobs.drop_last(flow, job)  # the caller gets the exception, and keeps the job
            raise

    def waiting(self, flow: Flow) -> int:
        """How many jobs of a flow wait for a session."""
        return self.jobs.waiting(flow)

    def withdraw(self) -> list[Job]:
        """Give back the jobs that wait for a session."""
        return self.jobs.clear()

    def retire(self) -> list[Job]:
        """Take no more: sessions finish the message in hand and close. Returns what waited."""
        self._retired = True
        waiting = self.jobs.clear()
        self._end()
        return waiting

    async def stop(self, seconds: float) -> None:
        """Let each session finish the message in hand, then end it; after `seconds`, cut what is left.

        A session that is still being opened has none in hand: it is not waited for.
        """
        self._end()
        if self._opener is not None:
            self._opener.cancel()
        if self._workers:
            await asyncio.wait(self._workers, timeout=seconds)
        left = list(self._workers)
        for task in left:
            task.cancel()
        await asyncio.gather(*left, return_exceptions=True)

    def _end(self) -> None:
        self.stopping = True
        self.hops.stop()
        self.jobs.clear()
        if self._raiser is not None:
            self._raiser.cancel()
        while self._idle:
            _give_nothing(self._idle.popleft())

    def fits(self, connector: Connector) -> bool:
        """Whether it stays as it is under these settings, its next hops apart."""
        return self._settings == LaneSettings.of(connector)

    @property
    def at_work(self) -> bool:
        """Whether a session is still open or being opened."""
        return bool(self._workers)

    @property
    def sessions(self) -> LaneSessions:
        """How many there are, and may be."""
        concurrency = self._concurrency
        return LaneSessions(len(self._sessions), concurrency.allowed(self._loop.time()), concurrency.most)

    @property
    def attempts(self) -> tuple[AttemptNow, ...]:
        """The running attempts; first the one that opens a session, for whichever job comes next."""
        return attempts_now(self._sessions, self._opening)

    # --- sessions ---------------------------------------------------------------------------------------------------

    def grow(self) -> None:
        """Open a session more where jobs wait and one is allowed; hold the jobs while no next hop is reachable."""
        if not self.jobs or self._opener is not None or self.stopping:
            return
        if len(self._sessions) >= self._concurrency.most:
            return
        if self._sessions and not self.hops.any_fit:
            return  # the one at work is on trial: it tells whether there may be more
        if not self._sessions and (down := self.hops.down(self._now())) is not None:
            self.sink.stopped(self, down, self.jobs.clear())
        elif len(self._sessions) < self._concurrency.allowed(self._loop.time()):
            task = self._opener = self._loop.create_task(self._work())
            self._workers.add(task)
            task.add_done_callback(self._worker_done)

    def _worker_done(self, task: asyncio.Task[None]) -> None:
        self._workers.discard(task)
        if not task.cancelled() and (error := task.exception()) is not None:
            self.sink.fault(error, connector=self._name)
        self.grow()

    async def _work(self) -> None:
        """The life of one session: open, carry jobs, close."""
        try:
            session = await self._open_session()
        finally:
            self._opener = None
        if session is None:
            return
        self._sessions.add(session)
        try:
            await self.carry_jobs(session)
            await session.close(FAREWELL_SECONDS if session.broken else None)
        except BaseException:
            session.abort()
            raise
        finally:
            self._sessions.discard(session)

    async def _open_session(self) -> Session | None:
        """A session ready for messages; None when none could be opened, which is reported, or no more are allowed."""
        began, start = self._now(), self._loop.time()
        dialogue = Dialogue(start)
        self._opening = began, dialogue
        alone = not self._sessions
        try:
            return await (self.hops.open if alone else self.hops.open_extra)(dialogue)
        except SessionFailed as failure:
            if alone:
                self._none_to_be_had(failure, began, self._loop.time() - start, dialogue)
            else:
                self._one_too_many(failure, len(self._sessions))
            return None
        finally:
            self._opening = None

    def _one_too_many(self, failure: SessionFailed, at_work: int) -> None:
        """A session was refused beside others that work: that is no failure, but there may not be so many."""
        now = self._loop.time()
        if self._concurrency.refused(at_work, now):
            self.sink.sessions_limited(self._name, self._concurrency.allowed(now), failure)
        if self._raiser is not None:
            self._raiser.cancel()
        if (at := self._concurrency.next_raise()) < float("inf"):
            self._raiser = self._loop.call_at(at, self.grow)

    def _none_to_be_had(self, failure: SessionFailed, began: float, seconds: float, dialogue: Dialogue) -> None:
        """The attempt is the first job's; the others wait for the next one with it.

        Where the lane does not stop for it, they all end so: a domain that takes no mail, say.
        """
        down = self.hops.down(self._now())
        tried = [self.jobs.take()] if self.jobs else []
        if down is not None:
            self.sink.stopped(self, down, self.jobs.clear())
        else:
            tried += self.jobs.clear()
            self.sink.came_back(self)
        stop = AttemptFailure.of(failure, until=down.until if down is not None else None)
        plan = next(iter(self.hops.plans), None)
        for job in tried:
            self.sink.report(plan, Report(job, began, seconds, stop=stop, dialogue=dialogue))

    # --- jobs -------------------------------------------------------------------------------------------------------

    async def carry_jobs(self, session: Session) -> None:
        """Carry one job after the other, as long as there are any and the session can be used."""
        recorded: asyncio.Future[None] | None = None
        following = Following(partial(self._next_waiting, session))
        taken: Job | None = None  # and nothing was done with it yet
        try:
            # The first job pays for the session, whatever became of that meanwhile; a fault of ours may have ended it.
            while (recorded is None and not session.begun) or (
                session.usable and (following.is_chosen or not self.is_done(session))
            ):
                job, outgoing = following.take()
                if job is None:
                    job = await self._next_job()
                    if job is None:
                        break
                    if session.begun and not session.usable:  # it went away while it was idle; the job goes on another
                        self.put_back(job)
                        break
                taken = job
                if self.jobs:
                    self.grow()
                self.hops.look_again()
                taken = None
                recorded = await self._carry(session, job, recorded, following, outgoing)
            if recorded is not None:
                await recorded
        finally:
            for job in (following.take()[0], taken):
                if job is not None:
                    self.put_back(job)

    def is_done(self, session: Session) -> bool:
        """Whether a session is to carry no more: it has had its share, or a next hop that comes first is back."""
        return session.spent or self.hops.has_better(session.hop)

    async def _next_job(self) -> Job | None:
        """The next job; None when none comes for a while, or when all ends."""
        if self.stopping:
            return None
        if self.jobs:
            return self.jobs.take()
        future: asyncio.Future[Job | None] = self._loop.create_future()
        self._idle.append(future)
        timer = self._loop.call_later(IDLE_SECONDS, _give_nothing, future)
        try:
            return await future
        finally:
            timer.cancel()
            if future in self._idle:  # a `remove` that finds nothing would put the future into words
                self._idle.remove(future)

    def put_back(self, job: Job) -> None:
        """A job that was taken and needs another session."""
        if self._retired:
            self.sink.give_back(job)
        elif not self.stopping:
            self.jobs.put_back(job.flow, job)

    def _next_waiting(self, session: Session) -> tuple[Job, Outgoing] | None:
        """A waiting job that this session's next hop can accept; None where there is none, or it needs more steps."""
        if self.stopping or self._settings.pace is not None or not self.jobs or self.is_done(session):
            return None
        try:
            outgoing = self._prepare(self.jobs.next(), session)
        except Exception:  # it fails by itself when its turn comes, and not the message that is being carried
            return None
        if outgoing.stop is not None or outgoing.apart:
            return None
        return self.jobs.take(), outgoing

    def _prepare(self, job: Job, session: Session) -> Outgoing:
        proven = session.verified and (self.hops.proven or session.plan.demand is not None)
        outgoing = prepare(job, self._settings.next_hop(session.capabilities, proven, self._signatures))
        job.changed, job.signed = outgoing.changed, outgoing.signed
        return outgoing

    def _divide(self, job: Job, apart: Collection[str]) -> Job:
        """Return the recipients `apart` to the lane for another transaction; the job without them."""
        ours, theirs = job.divided(apart)
        self.sink.divided(job, ours, theirs)
        self.put_back(theirs)
        return ours

    @property
    def has_pace(self) -> bool:
        """Whether messages have to keep a distance."""
        return self._settings.pace is not None

    def wait_for_pace(self) -> float:
        """How long the next message has to wait for its start, in seconds, whichever session it is for."""
        if (pace := self._settings.pace) is None:
            return 0.0
        now = self._loop.time()
        self._next_start = max(self._next_start, now) + pace.interval
        return self._next_start - pace.interval - now

    async def _carry(
        self,
        session: Session,
        job: Job,
        recorded: asyncio.Future[None] | None,
        following: Following,
        outgoing: Outgoing | None,
    ) -> asyncio.Future[None] | None:
        """Hand one job over, and have what became of it recorded; `outgoing` is it, if its commands went already.

        Its content does not go before the result of the last one is on stable storage (`recorded`): so a crash can
        cost at most one extra copy for each session.
        """
        if wait := self.wait_for_pace():
            await asyncio.sleep(wait)
        began, start = self._now(), self._loop.time()
        mark = session.dialogue.mark()
        session.carries = job.message.id, began
        attempt = await self._attempt(session, job, recorded, following, outgoing)
        session.carries = None
        job, results = attempt.job, attempt.results
        if attempt.waits or (attempt.failure is not None and self.costs_nothing(session, attempt.failure)):
            self.put_back(job)
            return recorded
        if apart := too_many(results):
            job = self._divide(job, apart)
            results = tuple(result for result in results if result.recipient not in apart)
        report = Report(job, began, self._loop.time() - start, results, attempt.stop, session, session.dialogue)
        done = self.sink.report(session.plan, report)
        session.dialogue.cut(mark)
        return done

    async def _attempt(
        self,
        session: Session,
        job: Job,
        recorded: asyncio.Future[None] | None,
        following: Following,
        outgoing: Outgoing | None,
    ) -> HandOver:
        """The result of one job; an exception on the way becomes part of it."""
        try:
            if outgoing is None:
                outgoing = self._prepare(job, session)
            while outgoing.apart:
                job = self._divide(job, outgoing.apart)
                outgoing = self._prepare(job, session)
            if outgoing.stop is not None:
                return HandOver(job, stop=outgoing.stop)
            if outgoing.ready is not None:
                await asyncio.wrap_future(outgoing.ready)
            results = await session.relay(
                outgoing.envelope, outgoing.content, self.sink.before_content(recorded), following.choose
            )
        except SessionFailed as failure:
            self.note_broken(session, failure)
            return HandOver(job, tuple(failure.results), AttemptFailure.of(failure), failure)
        except ContentUnreadable as error:
            session.abort()  # in the middle of a message that cannot be ended
            return HandOver(
                job, stop=AttemptFailure(stage=Stage.CONTENT, cause=Cause.CONTENT_UNREADABLE, text=error.problem)
            )
        except StoreAway as error:
            session.abort()
            self.sink.fault(error)
            await asyncio.sleep(STORE_AWAY_SECONDS)
            return HandOver(job, waits=True)
        except Exception as error:
            session.abort()
            words = self.sink.fault(error, message=id_text(job.message.id), connector=self._name)
            return HandOver(job, stop=AttemptFailure(stage=session.stage, cause=Cause.INTERNAL, text=words))
        self.note_carried(session)
        return HandOver(job, results)

    def note_carried(self, session: Session) -> None:
        """A session carried a message: its next hop is reachable."""
        self._barren = 0
        if self.hops.worked(session.hop):
            self.sink.came_back(self)

    def note_broken(self, session: Session, failure: SessionFailed) -> None:
        """A session broke under a message. Where it never carried one, that may be the next hop's state.

        A 421 says so; without a word from it, a single message could be the reason, so it takes several of them.
        """
        if session.carried or self._beside(session):
            return
        self._barren += failure.cause.broke_session
        if (failure.reply is not None and failure.reply.code == 421) or self._barren >= MOST_BARREN:
            self.hops.failed(session.hop, failure)

    def _beside(self, session: Session) -> bool:
        """Whether another session is open beside this one."""
        return bool(self._sessions - {session})

    def costs_nothing(self, session: Session, failure: SessionFailed) -> bool:
        """Whether a job may go on a new session at once: nothing of it was taken, and it was not its own fault."""
        if failure.content_begun or failure.results:
            return False
        closed = failure.reply is not None and failure.reply.code == 421
        if session.carried:
            return closed or failure.cause in (Cause.LOST, Cause.TIMED_OUT)
        if closed and self._beside(session):
            self._one_too_many(failure, len(self._sessions - {session}))
            return True
        return False


def _give_nothing(future: asyncio.Future[Job | None]) -> None:
    if not future.done():
        future.set_result(None)
