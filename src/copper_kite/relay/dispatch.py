"""The dispatcher: gives lanes new messages straight from memory, and due ones from the store.

A message leaves memory for its lane when there is a place for it: so many for each lane, and so many in all. What there
is no place for, and what waits in a lane that does not move, stays in the store; the backlog knows its id.
"""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable, Iterable, Sequence
from dataclasses import replace
from functools import partial

from copper_kite.clock import Clock
from copper_kite.errors import KiteError
from copper_kite.net import Plan, SessionFailed, client_context
from copper_kite.relay.admin_desk import AdminDesk
from copper_kite.relay.allowances import Allowances
from copper_kite.relay.backlog import Key
from copper_kite.relay.decide import Retry
from copper_kite.relay.delivery import AttemptFailure, Recorder, Report
from copper_kite.relay.hop_news import note_certificate, note_hop
from copper_kite.relay.hops import Down
from copper_kite.relay.job import Job
from copper_kite.relay.lane import Lane
from copper_kite.relay.lane_sink import TellingLane
from copper_kite.relay.lanes import Lanes
from copper_kite.relay.leased_content import LeasedContent
from copper_kite.relay.log import Log
from copper_kite.relay.outcomes import log_recorded, log_relayed
from copper_kite.relay.own_mail import OwnMail
from copper_kite.relay.poison import Poison
from copper_kite.relay.recorded import Recorded
from copper_kite.relay.recordings import Recordings
from copper_kite.relay.stops import down_stop, over_limit, stop_of, unsent_stop
from copper_kite.relay.supervisor import Supervisor
from copper_kite.relay.supply import Supply
from copper_kite.relay.surroundings import Surroundings
from copper_kite.settings import Loaded
from copper_kite.store import (
    AddMessage,
    Due,
    IdMaker,
    JournalEntry,
    LaneNow,
    Message,
    Recipient,
    RecordRelayed,
    ServerReads,
    ShiftClock,
    Submit,
    Transaction,
    WriteEntry,
    id_text,
)
from copper_kite.words import Cause, Stage

__all__ = ["Dispatcher"]

MAX_CONTENT_IN_HAND = 32 * 1024 * 1024  # octets of new content kept in memory; beyond, it is read from the store
RECORD_AGAIN_SECONDS = 1.0
LONGEST_WAIT = 60.0  # seconds from one try to record something to the next


class Dispatcher:
    """Keeps every recipient that is due on its way. `submit` has a transaction written, and calls back in this loop.

    `test_alarm` is called with the name of an alarm that an administrator wants to test.
    """

    def __init__(
        self,
        loaded: Loaded,
        submit: Submit,
        reader: ServerReads,
        ids: IdMaker,
        clock: Clock,
        log: Log,
        supervisor: Supervisor | None = None,
        recordings: Recordings | None = None,
        test_alarm: Callable[[str], object] | None = None,
        surroundings: Surroundings | None = None,
    ) -> None:
        self._surroundings = surroundings = surroundings or Surroundings()
        self._recordings = recordings
        self.log = log
        self._supervisor = supervisor or Supervisor(log)
        self._poison = Poison()
        self._loop = asyncio.get_running_loop()
        self._submit = submit
        self._reader = reader
        self._clock = clock
        self._ids = ids
        shown = partial(note_certificate, self._submit, clock.now)
        self._lanes = Lanes(self, clock, self.fault, partial(note_hop, log, self._submit, clock.now), shown,
                            surroundings)  # fmt: skip
        self.supply = Supply(reader, submit, clock, self._supervisor, self._lanes, self._begin, self._overdue)
        self._in_hand = self.supply.in_hand
        self._allowances = Allowances(
            log, clock.now, reader.relayed_since, reader.reserve, self._carry, self._stop_for_allowance
        )
        self._offered: list[AddMessage] = []
        self._desk = AdminDesk(
            reader, submit, clock, log, self._supervisor, self.supply, self._key, self.offer, self.carry_out_requests,
            test_alarm,
        )  # fmt: skip
        self.own_mail = OwnMail(lambda: self._notices, submit, self.offer, clock.now)
        self._stopping = False
        self.may_send: Callable[[], bool] | None = None  # where others may take over what is in hand here
        self._allowances.take_up(loaded.settings.connector)
        self._take_up(loaded)

    def _take_up(self, loaded: Loaded) -> list[str]:
        """Go by `loaded`; the connectors whose lanes are not those of before."""
        self._loaded = loaded
        self._notices = self._surroundings.make_notices(loaded, self._ids)
        self._recorder = Recorder(Retry(loaded.settings.retry.waits), self._ids, self._notices, self._recordings)
        self.supply.deadlines.take_up(self._notices.late_at, loaded.settings.retry.lifetime)
        return self._lanes.take_up(loaded)

    # --- its life ---------------------------------------------------------------------------------------------------

    def start(self) -> None:
        """Begin with what waits, and with what no connector carried: there may be one now."""
        self.supply.start()
        self.supply.make_due([""])

    def reload(self, loaded: Loaded) -> None:
        """Take up other settings: what has not begun to leave goes by them, what has is finished."""
        client_context.cache_clear()  # a trusted file may say something else by now
        routes = self._loaded.settings.connector
        waiting = self._allowances.let_go()
        changed = self._allowances.take_up(loaded.settings.connector)
        changed += self._take_up(loaded)
        self.supply.stops.start_all(["", *changed])
        for job in waiting:
            self._choose_again(job)
        for job in self._lanes.withdraw():
            self.give_back(job)
        if changed or loaded.settings.connector != routes:  # else all that waits is in the lanes where it belongs
            self.supply.start_over()
        self.supply.make_due(["", *changed])

    async def stop(self, seconds: float) -> None:
        """Finish what is in hand, within `seconds`; the rest stays in the store as it is."""
        self._stopping = True
        self.supply.end()
        await asyncio.gather(*(lane.stop(seconds) for lane in self._lanes.all()))

    def clock_stepped(self, by: float, before: float, entry: JournalEntry) -> None:
        """The machine's clock was set by so many seconds, and showed `before`: spans stay as they were to be.

        Nothing is fetched from the store before that is shifted there, too.
        """
        self._submit([ShiftClock(by, before), WriteEntry(entry)], lambda error: self.supply.shifted())
        self._lanes.clock_stepped(by)
        self.supply.clock_stepped(by)

    # --- what an administrator wants ----------------------------------------------------------------------------------

    def carry_out_requests(self) -> None:
        """Carry out administrators' requests; those about messages in hand wait until their attempts are recorded."""
        if self._recordings is not None:
            self._recordings.read()
        self._take_offered()
        self._desk.carry_out(self._recorder)

    # --- what comes in ----------------------------------------------------------------------------------------------

    def offer(self, addition: AddMessage) -> None:
        """Take a message that has just become durable: with all of its commit, when their senders are answered."""
        if not self._offered:
            self._supervisor.soon_until_done(self._take_offered)
        self._offered.append(addition)

    def _take_offered(self) -> None:
        offered, self._offered = self._offered, []
        for addition in offered:
            try:
                self.take(addition)
            except Exception as error:
                self._fail_alone(addition.message, addition.recipients, error)

    def take(self, addition: AddMessage) -> None:
        """Start jobs for a new message at once; content that does not fit in memory comes from the store later."""
        message, recipients, content, _ = addition
        if self._stopping or message.id in self._in_hand:
            return
        if content is not None and self._in_hand.octets + len(content) > MAX_CONTENT_IN_HAND:
            content = None
        groups = self._grouped(message, recipients)
        whole = content is not None and len(groups) == 1
        for key, group in groups.items():
            lane = self._lanes.get(key)
            if lane is not None and self.supply.has_place(lane, message):
                self._start_job(message, group, lane, content, whole)
            else:
                self.supply.keep_waiting(key, message)

    def left_in_store(self, ids: Iterable[int]) -> None:
        """Look up durable messages that an internal error kept from being offered."""
        self.supply.look_up(ids)

    def _grouped(self, message: Message, recipients: Sequence[Recipient]) -> dict[Key, list[Recipient]]:
        """The recipients by the lane that is to carry them."""
        if len(recipients) == 1:
            return {self._key(recipients[0], message.reverse_path): [*recipients]}
        groups: dict[Key, list[Recipient]] = {}
        for recipient in recipients:
            groups.setdefault(self._key(recipient, message.reverse_path), []).append(recipient)
        return groups

    def _key(self, recipient: Recipient, reverse_path: str) -> Key:
        carrier = self._lanes.carrier(recipient.address, reverse_path, recipient.via)
        return self._lanes.key(carrier, recipient.address)

    # --- what goes out ----------------------------------------------------------------------------------------------

    def _overdue(self, ids: Sequence[int]) -> None:
        """Report messages that became late or whose lifetime is over while their lane stands still."""
        now = self._clock.now()
        for due in self._reader.due(ids, now):
            message = due.message
            for key, recipients in self._grouped(message, due.recipients).items():
                stop = self.supply.stops.of(key)
                late = self._notices.late_at(message.arrived, message.expires)
                waits = any(recipient.changed < late <= now for recipient in recipients)
                if stop is not None and (waits or message.expires <= now):
                    job = Job(message, recipients, key[0], None, None, self._reader.content, key[1])
                    self._record_stopped(job, stop_of(stop, now))

    def _begin(self, due: Due, lane: Lane) -> bool:
        """Start the job of the due recipients that belong to the lane; whether there are any."""
        try:
            ours = self._grouped(due.message, due.recipients).get(lane.key, [])
        except Exception as error:
            self._fail_alone(due.message, due.recipients, error)
            return True
        if ours:
            self._start_job(due.message, ours, lane, due.content, False)
        return bool(ours)

    def _fail_alone(self, message: Message, recipients: Sequence[Recipient], error: Exception) -> None:
        """An internal error keeps these from a lane: that counts as their attempt."""
        recipients = [recipient for recipient in recipients if not self._in_hand.has(message.id, recipient.number)]
        job = Job(message, recipients, "", None, None, self._reader.content)
        self._record_stopped(job, self._internal_stop(message, error))

    def _internal_stop(self, message: Message, error: Exception) -> AttemptFailure:
        words = self.fault(error, message=id_text(message.id))
        return AttemptFailure(stage=Stage.RESOLVE, cause=Cause.INTERNAL, text=words)

    def _start_job(
        self, message: Message, recipients: list[Recipient], lane: Lane, content: bytes | None, whole: bool
    ) -> None:
        connector, domain = lane.key
        read = self._reader.content
        job = Job(message, recipients, connector, lane.next_hop, content, read, domain, whole, load=lane.load)
        self._in_hand.begin(job)
        try:
            self._give_to_lane(job, lane)
        except Exception as error:
            self._end_unsent(job, self._internal_stop(message, error))

    def _give_to_lane(self, job: Job, lane: Lane) -> None:
        connector, size = job.connector, job.message.size
        limit = self._lanes.limit(connector)
        if limit is not None and size > limit:
            self._end_unsent(job, over_limit(connector, size, limit))
        elif connector in self._allowances:
            self._allowances.offer(job)
        else:
            lane.add(job)

    def _carry(self, job: Job) -> None:
        """Give a job that its allowance permits to its lane."""
        lane = self._lanes.get((job.connector, job.domain))
        assert lane is not None
        lane.add(job)

    def _stop_for_allowance(self, job: Job, text: str, until: float) -> None:
        """A connector's allowance is used up: its lanes do not move for a while."""
        stop = unsent_stop((job.connector, ""), Cause.ALLOWANCE_USED, text, self._clock.now(), until)
        self.supply.stop_lane(stop)
        self._desk.freed(self.supply.take_back(job))

    # --- what lanes say (see `lane_sink`) -----------------------------------------------------------------------------

    def report(self, plan: Plan | None, report: Report) -> asyncio.Future[None]:
        """Record what an attempt found; the future is done when that is on stable storage."""
        self.count(report)
        return self._record_report(plan, report)

    def count(self, report: Report) -> None:
        """Count a result for the allowance of its connector, and for what stops its lane."""
        if report.job.connector in self._allowances:
            count = sum(result.stage is Stage.ACCEPT and result.reply.code < 300 for result in report.results)
            self._supervisor.run(partial(self._allowances.settle, report.job, count))
        if self.supply.stops:
            key = (report.job.connector, report.job.domain)
            if report.session is not None and report.results:
                self.supply.came_up(key)
            elif report.stop is not None and report.stop.until is not None:
                self.supply.stops.tried(key, report.job.message.id)

    def is_free(self, key: Key, size: int) -> bool:
        """Whether a message of so many octets may leave by a lane as soon as it comes, and nothing counts it."""
        if key[0] in self._allowances or key in self.supply.backlog or size > (self._lanes.limit(key[0]) or size):
            return False
        return not self.supply.stops or self.supply.stops.of(key) is None

    def before_content(self, recorded: asyncio.Future[None] | None) -> Awaitable[None] | None:
        """What a session awaits before content goes."""
        return recorded if self.may_send is None else LeasedContent(recorded, self.may_send)

    def give_back(self, job: Job) -> None:
        """A job that its lane will not carry any more: choose again."""
        self._allowances.settle(job, 0)
        self._choose_again(job)

    def _choose_again(self, job: Job) -> None:
        self._desk.freed(self.supply.choose_again(job))

    def divided(self, job: Job, ours: Job, theirs: Job) -> None:
        """A job went on as two."""
        self._in_hand.divide(job, ours, theirs)

    def stopped(self, lane: TellingLane, down: Down, waiting: Sequence[Job]) -> None:
        """A lane's next hops are down: what waits there goes back to the store."""
        if self._lanes.existing(lane.key) is not lane:  # another one has taken its place
            for job in waiting:
                self.give_back(job)
            return
        stop = down_stop(lane.key, down, str(lane.next_hop), self._clock.now())
        self.supply.stop_lane(stop)
        for job in reversed(waiting):
            self._supervisor.run(partial(self._allowances.settle, job, 0))
            self._desk.freed(self.supply.take_back(job))

    def came_back(self, lane: TellingLane) -> None:
        """Next hops are reachable again."""
        if self._lanes.existing(lane.key) is lane:
            self.supply.came_up(lane.key)

    def sessions_limited(self, connector: str, allowed: int, failure: SessionFailed) -> None:
        """A next hop refused one session more."""
        said = str(failure.reply or failure.text)
        self.log.write("notice", "sessions", connector=connector, allowed=allowed, reply=said)

    def fault(self, error: BaseException, **facts: object) -> str:
        """Log an unexpected exception; the text that names it."""
        return self._supervisor.note(error, **facts)

    def lanes_now(self) -> list[LaneNow]:
        """The lanes whose state differs from their settings."""
        return self._lanes.now()

    # --- records ----------------------------------------------------------------------------------------------------

    def _record_stopped(self, job: Job, stop: AttemptFailure) -> None:
        """Record what becomes of recipients without a lane's doing."""
        self._in_hand.begin(job)
        self._end_unsent(job, stop)

    def _end_unsent(self, job: Job, stop: AttemptFailure) -> None:
        """Record a job that no session carried."""
        self._record_report(None, Report(job, self._clock.now(), 0.0, stop=stop))

    def _record_report(self, plan: Plan | None, report: Report) -> asyncio.Future[None]:
        job = report.job
        if job.shift:
            message = job.message._replace(expires=job.message.expires + job.shift)
            report = report._replace(job=replace(job, message=message))
        try:
            return self._submit_record(job, self._record_of(report, self._clock.now(), plan))
        except Exception as error:
            self.fault(error, message=id_text(job.message.id))
            return self._shelve(job)

    def _submit_record(self, job: Job, record: Recorded | RecordRelayed) -> asyncio.Future[None]:
        written: asyncio.Future[None] = self._loop.create_future()
        if isinstance(record, RecordRelayed):
            self._submit((record,), partial(self._written, job, (record,), None, written))
        else:
            transaction = record.transaction()
            self._submit(transaction, partial(self._written, job, transaction, record, written))
        return written

    def _shelve(self, job: Job) -> asyncio.Future[None]:
        """A job of which nothing at all can be recorded: its message stays in the store as it is, for a while alone."""
        id = job.message.id
        self.supply.withhold(id)
        self._desk.freed(self.supply.over(job))
        self._supervisor.later(LONGEST_WAIT, partial(self.supply.let_go, id))
        done: asyncio.Future[None] = self._loop.create_future()
        done.set_result(None)
        return done

    def _record_of(self, report: Report, now: float, plan: Plan | None) -> Recorded | RecordRelayed:
        """The record of an attempt; a fault while making it is recorded, too, and never stops a lane.

        A message that our own faults hit again and again is parked, for an administrator to look at.
        """
        message, internal = report.job.message, False
        try:
            relayed = self._recorder.relayed(report, now, plan)
            if relayed is not None:
                log_relayed(self.log, report.job, relayed)
                return relayed
            internal = report.stop is not None and report.stop.cause is Cause.INTERNAL
            recorded = self._recorder.record(report, now, plan)
            log_recorded(self.log, report.job, recorded)
        except Exception as error:
            words, internal = self.fault(error, message=id_text(message.id)), True
            recorded = self._recorder.record_fault(report, now, plan, words)
        if internal and self._poison.parks(message.id, recorded, now):
            self.log.write("error", "parked", id=id_text(message.id), text="our own faults hit it again and again")
        return recorded

    def _written(
        self,
        job: Job,
        transaction: Transaction,
        recorded: Recorded | None,
        written: asyncio.Future[None],
        error: KiteError | None,
        wait: float = RECORD_AGAIN_SECONDS,
    ) -> None:
        if error is not None:  # the disk is full or failing: what is known must not be forgotten, so try on
            again = partial(self._written, job, transaction, recorded, written, wait=min(2 * wait, LONGEST_WAIT))
            self._supervisor.later(wait, partial(self._submit, transaction, again))
            return
        if not written.done():
            written.set_result(None)
        self.end(job, recorded)

    def end(self, job: Job, recorded: Recorded | None) -> None:
        """A job is recorded: others have its place."""
        self._desk.freed(self.supply.over(job))
        if recorded is not None:
            self._recorded(job.message.id, recorded)
        self.supply.has_places((job.connector, job.domain), job.load.jobs)

    def _recorded(self, id: int, recorded: Recorded) -> None:
        for notice in recorded.notices:
            self.offer(notice)
        for state in recorded.states:
            if state.next_try is not None:
                self.supply.wait_until(state.next_try, id)
