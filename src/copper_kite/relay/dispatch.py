"""What goes next: fresh messages straight from memory, and what is due from the store, lane by lane.

A message leaves memory for its lane when there is a place for it: so many for each lane, and so many in all. What there
is no place for, and what waits in a lane that does not move, stays in the store; the backlog knows its id.
"""

from __future__ import annotations

import asyncio
import contextlib
import math
from collections.abc import Iterable, Sequence
from dataclasses import replace
from functools import partial

from copper_kite.clock import Clock
from copper_kite.errors import KiteError, NotFound
from copper_kite.net.failure import SessionFailed
from copper_kite.net.plan import Plan
from copper_kite.net.tls import client_context
from copper_kite.relay.allowances import Allowances
from copper_kite.relay.backlog import Backlog, Key
from copper_kite.relay.deadlines import Deadlines
from copper_kite.relay.decide import Retry
from copper_kite.relay.delivery import Recorder, Report, Stop
from copper_kite.relay.hops import Down
from copper_kite.relay.in_hand import InHand
from copper_kite.relay.job import Job
from copper_kite.relay.lane import Lane
from copper_kite.relay.lanes import Lanes
from copper_kite.relay.log import Log
from copper_kite.relay.notices import make_notices
from copper_kite.relay.orders import Orders
from copper_kite.relay.outcomes import log_change, log_relayed
from copper_kite.relay.poison import Poison
from copper_kite.relay.stops import Stops, down_stop, stop_of, unsent_stop
from copper_kite.relay.supervisor import Supervisor
from copper_kite.relay.turns import Flow
from copper_kite.settings.load import Loaded
from copper_kite.smtp.replies import Reply
from copper_kite.store.ids import IdMaker, id_text
from copper_kite.store.live import LaneNow
from copper_kite.store.model import (
    Change,
    Fresh,
    JournalEntry,
    Message,
    Recipient,
    Relayed,
    Submit,
    Waiting,
    Wanted,
)
from copper_kite.store.reads import Reader
from copper_kite.words import Cause, Event, Priority, Stage, State

__all__ = ["Dispatcher"]

MAX_IN_HAND = 4000  # messages, of all lanes together
MAX_IN_LANE = 2000  # jobs of one lane, so that others have places too
SURE_PLACES = 20  # jobs that every lane may have, whatever the others do
SENDER_PLACES = 4  # jobs that every sender may have in a lane, whatever others do there
MAX_CONTENT_IN_HAND = 32 * 1024 * 1024  # octets of fresh content kept in memory; beyond, it is read from the store
REFILL_OCTETS = 8 * 1024 * 1024  # of content in memory, up to which what is fetched comes with its own
REFILL = 500  # messages fetched at a time: the loop does nothing else meanwhile
SCAN = 1000  # recipients looked up at a time
SCAN_PAUSE = 0.02  # seconds from one look to the next, while there is enough to do without
RECORD_AGAIN_SECONDS = 1.0
LONGEST_WAIT = 60.0  # seconds from one try to record something to the next
NOBODY = ("", "")  # the lane of what no connector carries
BEFORE_ALL = (-math.inf, 0, 0)


class Dispatcher:
    """Keeps every recipient that is due on its way. `submit` writes a change and calls back in this loop."""

    def __init__(
        self,
        loaded: Loaded,
        submit: Submit,
        reader: Reader,
        ids: IdMaker,
        clock: Clock,
        log: Log,
        supervisor: Supervisor | None = None,
    ) -> None:
        self.log = log
        self._supervisor = supervisor or Supervisor(log)
        self._poison = Poison()
        self._loop = asyncio.get_running_loop()
        self._submit = submit
        self._reader = reader
        self._clock = clock
        self._ids = ids
        self._lanes = Lanes(self, clock, self.fault)
        self._stops = Stops(clock, self._supervisor, submit, self._look_at)
        self._allowances = Allowances(log, clock.now, reader.relayed_since, self._carry, self._stop_for_allowance)
        self._deadlines = Deadlines(clock, self._supervisor, reader.ages, self._overdue)
        self._in_hand = InHand()
        self._backlog = Backlog()
        self._ready: set[Key] = set()  # lanes that may have a place for something in the backlog
        self._early: set[int] = set()  # of those to be looked up, those that need not wait for their time
        self._stale = False  # whether some that were taken from there last wait no longer
        self._being_done: set[int] = set()  # messages that nothing is to leave of, for a while
        self._wants_more = False
        self._offered: list[Fresh] = []
        self._refilling = False  # until it has succeeded
        self._stepping = 0  # steps of the clock that are not written down yet
        self._look_up: list[int] = []  # messages to be looked up in the store again
        self._busy: set[int] = set()  # of these, those that are to be looked up when they are not in hand any more
        self._delayed_from = BEFORE_ALL  # what is delayed was looked through up to here
        self._queued_from, self._queued_until = 0, 0  # what is queued, and was when this began: from here to there
        self._timer: asyncio.TimerHandle | None = None
        self._going_on: asyncio.Handle | None = None  # with what is due, after the loop has turned
        self._next_due = math.inf
        self._stopping = False
        self._allowances.take_up(loaded.settings.connector)
        self._take_up(loaded)

    def _take_up(self, loaded: Loaded) -> list[str]:
        """Go by `loaded`; the connectors whose lanes are not those of before."""
        self._loaded = loaded
        self._notices = make_notices(loaded, self._ids)
        self._recorder = Recorder(Retry(loaded.settings.retry.waits), self._ids, self._notices)
        self._deadlines.take_up(self._notices.late_at, loaded.settings.retry.lifetime)
        return self._lanes.take_up(loaded)

    # --- its life ---------------------------------------------------------------------------------------------------

    def start(self) -> None:
        """Begin with what waits, and with what no connector carried: there may be one now."""
        self._stops.forget(self._reader.lanes())
        self._queued_until = self._reader.last_id()
        self._hasten([""])
        self._deadlines.look()

    def reload(self, loaded: Loaded) -> None:
        """Take up other settings: what has not begun to leave goes by them, what has is finished."""
        client_context.cache_clear()  # a trusted file may say something else by now
        waiting = self._allowances.let_go()
        changed = self._allowances.take_up(loaded.settings.connector)
        changed += self._take_up(loaded)
        self._stops.start_all(["", *changed])
        for job in waiting:
            self._choose_again(job)
        for job in self._lanes.withdraw():
            self.give_back(job)
        self._scan_anew()
        self._hasten(["", *changed])

    def _scan_anew(self) -> None:
        """Have all that waits in the store looked through once more."""
        self._backlog.clear()
        self._ready.clear()
        self._queued_from, self._queued_until = 0, self._reader.last_id()
        self._delayed_from = BEFORE_ALL

    async def stop(self, seconds: float) -> None:
        """Finish what is in hand, within `seconds`; the rest stays in the store as it is."""
        self._stopping = True
        for handle in (self._timer, self._going_on):
            if handle is not None:
                handle.cancel()
        self._deadlines.end()
        await asyncio.gather(*(lane.stop(seconds) for lane in self._lanes.all()))
        self._stops.end()

    def clock_stepped(self, by: float, before: float, entry: JournalEntry) -> None:
        """The machine's clock was set by so many seconds, and showed `before`: spans stay as they were to be.

        Nothing is fetched from the store before that is shifted there, too.
        """
        self._stepping += 1
        self._submit(Change(journal=[entry], shifted=[(by, before)]), self._shifted)
        self._lanes.clock_stepped(by)
        self._stops.clock_stepped(by)
        for job in self._in_hand:
            job.shift += by
        self._next_due += by
        self._set_alarm()

    def _shifted(self, error: KiteError | None) -> None:
        self._stepping -= 1
        self._delayed_from = BEFORE_ALL
        self._refill()
        self._deadlines.start_over()

    # --- what an administrator wants ----------------------------------------------------------------------------------

    def do_what_is_wanted(self) -> None:
        """Carry out what an administrator wants; what is in hand now has its turn when it no longer is."""
        self._take_offered()
        orders = Orders(self._recorder, self._reader.content)
        lanes: set[Key] = set()  # that are to be tried now, each once
        wanted: dict[int, list[Wanted]] = {}
        for one in self._reader.wanted():
            wanted.setdefault(one.message, []).append(one)
        for one in wanted.pop(0, ()):
            self._supervisor.run(partial(self._retry_connector, one))
        for id, ones in wanted.items():
            if id in self._in_hand or id in self._being_done:
                self._wants_more = True
            else:
                self._supervisor.run(partial(self._carry_out, orders, id, ones, lanes), message=id_text(id))
        for key in lanes:
            self.try_now(key)

    def _retry_connector(self, wanted: Wanted) -> None:
        """Try now what waits for a connector, whatever is remembered of its next hops."""
        now, name = self._clock.now(), wanted.target
        facts: dict[str, object] = {"action": wanted.action.value, "who": wanted.who, "recipients": [], "to": name}
        entry = JournalEntry(at=now, event=Event.ORDERED, facts=facts)
        for key in [*self._lanes.keys_of(name), *(key for key in self._backlog.lanes() if key[0] == name)]:
            self.try_now(key)
        change = Change(done=[wanted.number], hastened=[(now, name)], journal=[entry])
        self._submit(change, lambda error: self._hastened(now))
        self.log.write("notice", "ordered", **{**facts, "recipients": "all"})

    def try_now(self, key: Key) -> None:
        """Try what is remembered as down."""
        lane = self._lanes.existing(key)
        if lane is not None:
            lane.hops.try_again(self._clock.now())
        self._stops.try_now(key)

    def _carry_out(self, orders: Orders, id: int, ones: Sequence[Wanted], lanes: set[Key]) -> None:
        notices: Sequence[Fresh] = ()
        change = Change(done=[one.number for one in ones])
        with contextlib.suppress(NotFound):
            message, recipients = self._reader.recipients(id)
            change, notices = orders.carry_out(message, recipients, ones, self._clock.now())
            queued = {outcome.number for outcome in change.outcomes if outcome.state is State.QUEUED}
            for one in recipients:
                if one.number in queued:
                    carrier = self._lanes.carrier(one.address, message.reverse_path, one.via)
                    lanes.add(self._lanes.key(carrier, one.address))
        self._being_done.add(id)  # until then nothing of it may leave
        self._submit(change, partial(self._done, id, change, notices))

    def _done(self, id: int, change: Change, notices: Sequence[Fresh], error: KiteError | None) -> None:
        self._being_done.discard(id)
        self._busy.discard(id)
        if error is not None:
            self._look_up.append(id)
            self._supervisor.later(RECORD_AGAIN_SECONDS, self.do_what_is_wanted)
            return
        for entry in (entry for entry in change.journal if entry.event is Event.ORDERED):
            facts = {**entry.facts, "recipients": len(entry.facts["recipients"])}
            self.log.write("notice", "ordered", id=id_text(id), **facts)
        for notice in notices:
            self.offer(notice)
        self._look_up.append(id)
        self._refill()

    def _hasten(self, connectors: Iterable[str]) -> None:
        """What was delayed by these connectors is due now."""
        now = self._clock.now()
        self._submit(Change(hastened=[(now, name) for name in connectors]), lambda error: self._hastened(now))

    def _hastened(self, now: float) -> None:
        self._delayed_from = min(self._delayed_from, (now, 0, 0))
        self._refill()

    # --- what comes in ----------------------------------------------------------------------------------------------

    def offer(self, fresh: Fresh) -> None:
        """Take a message that has just become durable: with all of its commit, when their senders are answered."""
        if not self._offered:
            self._supervisor.soon(self._take_offered)
        self._offered.append(fresh)

    def _take_offered(self) -> None:
        offered, self._offered = self._offered, []
        for fresh in offered:
            try:
                self._take(fresh)
            except Exception as error:
                self._fail_alone(fresh.message, fresh.recipients, error)

    def _take(self, fresh: Fresh) -> None:
        """Have it leave; where there is no place for it, it comes from the store later."""
        message, recipients, content, _ = fresh
        if self._stopping or message.id in self._in_hand:
            return
        if content is not None and self._in_hand.octets + len(content) > MAX_CONTENT_IN_HAND:
            content = None
        groups = self._grouped(message, recipients)
        whole = content is not None and len(groups) == 1
        for key, group in groups.items():
            lane = self._lanes.get(key)
            if lane is not None and self._has_place(lane, message):
                self._start_job(message, group, lane, content, whole)
            else:
                self._keep_waiting(key, message)

    def left_in_store(self, ids: Iterable[int]) -> None:
        """These are durable, and a fault of ours kept them from being offered."""
        self._look_up += ids
        self._refill()

    def _grouped(self, message: Message, recipients: Sequence[Recipient]) -> dict[Key, list[Recipient]]:
        """The recipients by the lane that is to carry them."""
        groups: dict[Key, list[Recipient]] = {}
        for one in recipients:
            carrier = self._lanes.carrier(one.address, message.reverse_path, one.via)
            groups.setdefault(self._lanes.key(carrier, one.address), []).append(one)
        return groups

    def _has_place(self, lane: Lane, message: Message) -> bool:
        """Whether a fresh message may go to its lane at once: none of its own sender waits in the store before it."""
        flow: Flow | None = None
        if lane.key in self._backlog:
            flow = Flow(message.user or message.client, Priority.of(message.priority))
            if self._backlog.has(lane.key, flow):
                return False
        if self._places(lane) > 0:
            return True
        if self._stops and self._stops.of(lane.key) is not None:
            return False
        flow = flow or Flow(message.user or message.client, Priority.of(message.priority))
        return lane.waiting(flow) < SENDER_PLACES and len(self._in_hand) < 2 * MAX_IN_HAND

    def _places(self, lane: Lane) -> int:
        """How many jobs more a lane may have now; one that does not move has one when its time is over."""
        jobs = lane.load.jobs
        if self._stops and self._stops.of(lane.key) is not None:
            return int(self._moves(lane.key, jobs))
        return max(SURE_PLACES - jobs, min(MAX_IN_LANE - jobs, MAX_IN_HAND - len(self._in_hand)))

    def _keep_waiting(self, key: Key, message: Message, *, first: bool = False) -> None:
        """Of this message nobody leaves by that lane now."""
        flow = Flow(message.user or message.client, Priority.of(message.priority))
        self._backlog.add(key, flow, message.id, first=first)
        self._waits_in(key)

    def _waits_in(self, key: Key) -> None:
        """Something was added to the backlog of a lane."""
        if key == NOBODY and not self._stops.of(NOBODY):
            text = "no connector carries this recipient"  # nothing is tried until there is one
            self._stops.stop(unsent_stop(NOBODY, Cause.NO_CONNECTOR, text, self._clock.now()))
            self._deadlines.start_over()
        elif self._moves(key, 0):
            self._ready.add(key)
        self._deadlines.arm()

    def _moves(self, key: Key, jobs: int) -> bool:
        """Whether a lane with so many jobs in hand may have more."""
        if not self._stops or (stop := self._stops.of(key)) is None:
            return True
        return stop.until <= self._clock.now() and not jobs

    # --- what comes from the store ----------------------------------------------------------------------------------

    def _refill(self) -> None:
        """Fetch what is due; where the store cannot be read now, try again by and by."""
        if not self._refilling:
            self._refilling = True
            self._supervisor.until_done(self._fetch, RECORD_AGAIN_SECONDS)

    def _fetch(self) -> None:
        """Look through what has become due, and give lanes what they have places for."""
        self._take_offered()
        now = self._clock.now()  # which may notice that the clock was set
        if self._stopping or self._stepping:
            self._refilling = False
            return
        more = self._scan(now)
        self._deadlines.glance(now)
        fetched = self._fill(now)
        self._next_due = self._reader.next_due(now) or math.inf
        self._set_alarm()
        self._refilling = False
        if self._going_on is None and (more or fetched >= REFILL or self._stale):
            pause = SCAN_PAUSE if not self._ready and len(self._in_hand) > REFILL else 0.0
            self._going_on = self._supervisor.later(pause, self._go_on)

    def _go_on(self) -> None:
        self._going_on = None
        self._refill()

    def _scan(self, now: float) -> bool:
        """Put what waits in the store into the backlog, a portion at a time; whether there is more."""
        looked_up = self._look_up[:REFILL]
        named = self._reader.waiting(looked_up, math.inf if self._early else now) if looked_up else []
        named = [one for one in named if one.next_try <= now or one.message in self._early]
        delayed = self._reader.delayed(self._delayed_from, now, SCAN)
        queued: Sequence[Waiting] = ()
        if self._queued_from < self._queued_until:
            queued = self._reader.queued(self._queued_from, self._queued_until, SCAN)
            queued_from = queued[-1].message if queued else self._queued_until
        if named or delayed:  # they have waited longer than what was never tried: they are the first of their flows
            self._file([*reversed(delayed), *reversed(named)], now, first=True)
        if queued:
            self._file(queued, now)
        del self._look_up[: len(looked_up)]
        if delayed:
            self._delayed_from = delayed[-1].next_try, delayed[-1].message, delayed[-1].number
        if self._queued_from < self._queued_until:
            self._queued_from = queued_from
        return bool(self._look_up) or len(delayed) == SCAN or self._queued_from < self._queued_until

    def _file(self, rows: Sequence[Waiting], now: float, *, first: bool = False) -> None:
        """Put recipients that are due into the backlog of their lanes, as they are by the settings of now."""
        rerouted: list[tuple[str, int, int]] = []
        overdue: list[int] = []
        lanes, last = self._lanes, None
        for row in rows:
            id = row.message
            if self._in_hand.has(id, row.number) or id in self._being_done:
                self._busy.add(id)
                continue
            carrier = lanes.carrier(row.address, row.reverse_path, row.via)
            key = lanes.key(carrier, row.address)
            if carrier != row.connector:
                rerouted.append((carrier, id, row.number))
            if (id, key) != last:
                last = id, key
                self._backlog.add(key, Flow(row.who, Priority.of(row.priority)), id, first=first)
                self._waits_in(key)
            if self._deadlines.passed(row.arrived, row.expires, now):
                overdue.append(id)
        if rerouted:
            self._submit(Change(rerouted=rerouted), lambda error: None)
        if overdue:
            self._overdue(overdue)

    def _fill(self, now: float) -> int:
        """Give the lanes that are ready what they have places for, each a share; how many messages that were."""
        fetched, self._stale = 0, False
        share = max(REFILL // max(len(self._ready), 1), SURE_PLACES)
        for key in list(self._ready):
            if fetched >= REFILL:
                break
            lane = self._lanes.get(key)
            places = self._places(lane) if lane is not None else 0
            ids = self._backlog.take(key, min(places, share)) if places > 0 else []
            begun = self._begin_all(lane, ids, now) if lane is not None and ids else 0
            fetched += len(ids)
            if key not in self._backlog or begun == places:
                self._ready.discard(key)
            elif begun < len(ids):  # some wait no longer
                self._stale = True
        return fetched

    def _begin_all(self, lane: Lane, ids: Sequence[int], now: float) -> int:
        """Have those of these messages that are due leave by a lane; how many there were."""
        begun, self._look_up = 0, [*self._look_up, *ids]  # where the store cannot be read, they are not forgotten
        early = self._early.intersection(ids) if self._early else set()
        until = math.inf if early else now
        found = self._reader.due(ids, until, max(0, REFILL_OCTETS - self._in_hand.octets))
        self._early -= early
        del self._look_up[-len(ids) :]
        for due in found:
            id = due.message.id
            if early and id not in early:
                due.recipients = [one for one in due.recipients if (one.next_try or now) <= now]
            if id in self._being_done:
                self._busy.add(id)
                continue
            try:
                ours = self._grouped(due.message, due.recipients).get(lane.key, [])
            except Exception as error:
                self._fail_alone(due.message, due.recipients, error)
                continue
            if id in self._in_hand:
                free = [one for one in ours if not self._in_hand.has(id, one.number)]
                if len(free) < len(ours):
                    self._busy.add(id)
                ours = free
            if ours:
                begun += 1
                self._start_job(due.message, ours, lane, due.content, False)
        return begun

    def _set_alarm(self) -> None:
        if self._timer is not None:
            self._timer.cancel()
            self._timer = None
        if self._next_due < math.inf:
            self._timer = self._supervisor.later(self._clock.real_delay(self._next_due) + 0.001, self._refill)

    def _wait_until(self, at: float, id: int) -> None:
        """A recipient is due again then; where that was looked through before this was written, it is looked up."""
        if at <= self._delayed_from[0]:
            self._look_up.append(id)
            self._refill()
        elif at < self._next_due:
            self._next_due = at
            self._set_alarm()

    def _look_at(self, key: Key) -> None:
        """The time of a lane that does not move is over: one of its messages may try, or all may go."""
        stop = self._stops.of(key)
        if stop is not None and stop.cause == Cause.ALLOWANCE_USED:
            self._start_lane(key)
        elif key in self._backlog:
            self._ready.add(key)
        self._refill()

    def _start_lane(self, key: Key) -> None:
        """A lane moves; where the stop was of all lanes of a connector, they all do."""
        tried = self._stops.start(key)
        if tried is not None:
            self._early.update(tried)
            self._look_up += tried
            self._ready |= {one for one in self._backlog.lanes() if one == key or (not key[1] and one[0] == key[0])}

    def _overdue(self, ids: Sequence[int]) -> None:
        """Messages that became late or whose lifetime is over: where their lane does not move, that is told now."""
        now = self._clock.now()
        for due in self._reader.due(ids, now) if not self._stepping else ():
            message = due.message
            if message.id in self._in_hand or message.id in self._being_done:
                continue
            for key, recipients in self._grouped(message, due.recipients).items():
                stop = self._stops.of(key)
                late = self._notices.late_at(message.arrived, message.expires)
                waits = any(one.changed < late <= now for one in recipients)
                if stop is not None and (waits or message.expires <= now):
                    job = Job(message, recipients, key[0], None, None, self._reader.content, key[1])
                    self._record_stopped(job, stop_of(stop, now))

    # --- what goes out ----------------------------------------------------------------------------------------------

    def _fail_alone(self, message: Message, recipients: Sequence[Recipient], error: Exception) -> None:
        """These cannot even be given to a lane, by a fault of ours: that is their attempt."""
        words = self.fault(error, message=id_text(message.id))
        recipients = [one for one in recipients if not self._in_hand.has(message.id, one.number)]
        job = Job(message, recipients, "", None, None, self._reader.content)
        self._record_stopped(job, Stop(stage=Stage.RESOLVE, cause=Cause.INTERNAL, text=words))

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
            words = self.fault(error, message=id_text(message.id))
            self._record_report(
                None,
                Report(
                    job,
                    self._clock.now(),
                    0.0,
                    stop=Stop(stage=Stage.RESOLVE, cause=Cause.INTERNAL, text=words),
                ),
            )

    def _give_to_lane(self, job: Job, lane: Lane) -> None:
        connector, size = job.connector, job.message.size
        limit = self._lanes.limit(connector)
        if limit is not None and size > limit:
            text = f"the message has {size} octets, connector {connector} takes {limit}"
            reply = Reply(552, "5.3.4", text)
            stop = Stop(stage=Stage.SENDER, cause=Cause.OVER_OWN_LIMIT, text=text, reply=reply, attempted=False)
            self._record_report(None, Report(job, self._clock.now(), 0.0, stop=stop))
        elif connector in self._allowances:
            self._allowances.offer(job)
        else:
            lane.add(job)

    def _carry(self, job: Job) -> None:
        """What its allowance lets leave."""
        lane = self._lanes.get((job.connector, job.domain))
        assert lane is not None
        lane.add(job)

    def _stop_for_allowance(self, job: Job, text: str, until: float) -> None:
        """A connector's allowance is used up: its lanes do not move for a while."""
        key = (job.connector, "")
        if self._stops.stop(unsent_stop(key, Cause.ALLOWANCE_USED, text, self._clock.now(), until)):
            self._deadlines.start_over()
        self._unload(job)

    def _unload(self, job: Job) -> None:
        """A job goes back to where it waits, and nothing is written."""
        self._over(job)
        if not self._supervisor.run(partial(self._keep_waiting, (job.connector, job.domain), job.message, first=True)):
            self._look_up.append(job.message.id)
            self._supervisor.later(RECORD_AGAIN_SECONDS, self._refill)

    def _over(self, job: Job) -> None:
        """A job is in hand no longer."""
        id = job.message.id
        if not self._in_hand.end(job):
            return
        if id in self._busy:
            self._busy.discard(id)
            self._look_up.append(id)
            self._supervisor.soon(self._refill)
        if self._wants_more:
            self._wants_more = False
            self._supervisor.soon(self.do_what_is_wanted)

    # --- what lanes say (see `lane.Sink`) -----------------------------------------------------------------------------

    def report(self, plan: Plan | None, report: Report) -> asyncio.Future[None]:
        """Record what an attempt found; the future is done when that is on stable storage."""
        if report.job.connector in self._allowances:
            count = sum(result.stage is Stage.ACCEPT and result.reply.code < 300 for result in report.results)
            self._supervisor.run(partial(self._allowances.settle, report.job, count))
        if self._stops:
            key = (report.job.connector, report.job.domain)
            if report.session is not None and report.results:
                self.came_up(key)
            elif report.stop is not None and report.stop.until is not None:
                self._stops.tried(key, report.job.message.id)
        return self._record_report(plan, report)

    def give_back(self, job: Job) -> None:
        """A job that its lane will not carry any more: choose again."""
        self._allowances.settle(job, 0)
        self._choose_again(job)

    def _choose_again(self, job: Job) -> None:
        self._busy.add(job.message.id)
        self._over(job)

    def divided(self, job: Job, ours: Job, theirs: Job) -> None:
        """A job went on as two."""
        self._in_hand.divide(job, ours, theirs)

    def stopped(self, lane: Lane, down: Down, waiting: Sequence[Job]) -> None:
        """A lane's next hops are down: what waits there goes back to the store."""
        stop = down_stop(lane.key, down, str(lane.next_hop), self._clock.now())
        if self._stops.stop(stop):
            self._deadlines.start_over()
        for job in reversed(waiting):
            self._supervisor.run(partial(self._allowances.settle, job, 0))
            self._unload(job)

    def came_back(self, lane: Lane) -> None:
        """Next hops can be had again."""
        self.came_up(lane.key)

    def came_up(self, key: Key) -> None:
        """A lane whose next hops were down moves again."""
        stop = self._stops.of(key)
        if stop is not None and stop.cause != Cause.ALLOWANCE_USED:
            self._start_lane(key)
            self._supervisor.soon(self._refill)

    def sessions_limited(self, connector: str, allowed: int, failure: SessionFailed) -> None:
        """A next hop refused one session more."""
        said = str(failure.reply or failure.text)
        self.log.write("notice", "sessions", connector=connector, allowed=allowed, reply=said)

    def fault(self, error: BaseException, **facts: object) -> str:
        """Note an exception that nobody expected; the words for it."""
        return self._supervisor.note(error, **facts)

    def lanes_now(self) -> list[LaneNow]:
        """The lanes that have sessions, or may have fewer than their settings allow."""
        return self._lanes.now()

    def tell_postmaster(self, subject: str, text: str, entry: JournalEntry) -> None:
        """Write to whoever looks after this server, and into the journal."""
        fresh = self._notices.report(subject, text, self._clock.now())
        entry.message = fresh.message.id
        content = [(fresh.message.id, 0, fresh.content or b"")]
        change = Change([fresh.message], fresh.recipients, content, journal=[entry])
        self._submit(change, lambda error: None if error else self.offer(fresh))

    # --- records ----------------------------------------------------------------------------------------------------

    def _record_stopped(self, job: Job, stop: Stop) -> None:
        """Record what becomes of recipients without a lane's doing."""
        self._in_hand.begin(job)
        self._record_report(None, Report(job, self._clock.now(), 0.0, stop=stop))

    def _record_report(self, plan: Plan | None, report: Report) -> asyncio.Future[None]:
        job = report.job
        if job.shift:
            message = job.message._replace(expires=job.message.expires + job.shift)
            report = report._replace(job=replace(job, message=message))
        try:
            change, notices = self._change_of(report, self._clock.now(), plan)
            return self._record(job, change, notices)
        except Exception as error:
            self.fault(error, message=id_text(job.message.id))
            return self._shelve(job)

    def _record(self, job: Job, change: Change | Relayed, notices: Sequence[Fresh]) -> asyncio.Future[None]:
        recorded: asyncio.Future[None] = self._loop.create_future()
        self._submit(change, partial(self._written, job, change, notices, recorded))
        return recorded

    def _shelve(self, job: Job) -> asyncio.Future[None]:
        """A job of which nothing at all can be recorded: its message stays in the store as it is, for a while alone."""
        id = job.message.id
        self._being_done.add(id)
        self._over(job)
        self._supervisor.later(LONGEST_WAIT, partial(self._unshelve, id))
        done: asyncio.Future[None] = self._loop.create_future()
        done.set_result(None)
        return done

    def _unshelve(self, id: int) -> None:
        self._being_done.discard(id)
        self._look_up.append(id)
        self._refill()

    def _change_of(self, report: Report, now: float, plan: Plan | None) -> tuple[Change | Relayed, Sequence[Fresh]]:
        """What is to be recorded of an attempt; what goes wrong with that is recorded, too, and never stops a lane.

        A message that our own faults hit again and again is parked, for an administrator to look at.
        """
        message, internal = report.job.message, False
        notices: Sequence[Fresh] = ()
        try:
            relayed = self._recorder.relayed(report, now, plan)
            if relayed is not None:
                log_relayed(self.log, report.job, relayed)
                return relayed, ()
            internal = report.stop is not None and report.stop.cause is Cause.INTERNAL
            change, notices = self._recorder.record(report, now, plan)
            log_change(self.log, report.job, change)
        except Exception as error:
            words, internal = self.fault(error, message=id_text(message.id)), True
            change = self._recorder.record_fault(report, now, plan, words)
        if internal and self._poison.parks(message.id, change, now):
            self.log.write("error", "parked", id=id_text(message.id), text="our own faults hit it again and again")
        return change, notices

    def _written(
        self,
        job: Job,
        change: Change | Relayed,
        notices: Sequence[Fresh],
        recorded: asyncio.Future[None],
        error: KiteError | None,
        wait: float = RECORD_AGAIN_SECONDS,
    ) -> None:
        if error is not None:  # the disk is full or failing: what is known must not be forgotten, so try on
            again = partial(self._written, job, change, notices, recorded, wait=min(2 * wait, LONGEST_WAIT))
            self._supervisor.later(wait, partial(self._submit, change, again))
            return
        if not recorded.done():
            recorded.set_result(None)
        self._over(job)
        if isinstance(change, Change):
            self._recorded(job.message.id, change, notices)
        if self._ready or self._backlog.lanes():
            self._has_places((job.connector, job.domain), job.load.jobs)

    def _recorded(self, id: int, change: Change, notices: Sequence[Fresh]) -> None:
        for notice in notices:
            self.offer(notice)
        for outcome in change.outcomes:
            if outcome.next_try is not None:
                self._wait_until(outcome.next_try, id)

    def _has_places(self, key: Key, jobs: int) -> None:
        """A lane has so many jobs left: where few, it gets more."""
        if jobs <= MAX_IN_LANE // 2 and key in self._backlog and self._moves(key, jobs):
            self._ready.add(key)
        if self._ready and (len(self._in_hand) < MAX_IN_HAND // 2 or jobs <= SURE_PLACES // 2):
            self._refill()
