"""The supply of lanes from the store: finds messages as they become due, and gives them to lanes with room.

Each lane has so many places, and all together so many; a lane that does not move has one when its time is over. What
there is no place for stays in the store, and the backlog knows its id, so that it is found when its turn comes.
"""

from __future__ import annotations

import asyncio
import math
from collections.abc import Callable, Iterable, Sequence

from copper_kite.clock import Clock
from copper_kite.relay.backlog import Backlog, Key
from copper_kite.relay.deadlines import Deadlines
from copper_kite.relay.in_hand import InHand
from copper_kite.relay.job import Job
from copper_kite.relay.lane import Lane
from copper_kite.relay.lanes import Lanes
from copper_kite.relay.stops import Stops, unsent_stop
from copper_kite.relay.supervisor import Supervisor
from copper_kite.relay.turns import Flow
from copper_kite.store import Due, LaneStop, Message, Reroute, RetryNow, ServerReads, Submit, Waiting
from copper_kite.words import Cause, Priority

__all__ = ["Supply"]

MAX_IN_HAND = 4000  # messages, of all lanes together
MAX_IN_LANE = 2000  # jobs of one lane, so that others have places too
SURE_PLACES = 20  # jobs that every lane may have, whatever the others do
SENDER_PLACES = 4  # jobs that every sender may have in a lane, whatever others do there
REFILL_OCTETS = 8 * 1024 * 1024  # of content in memory, up to which what is fetched comes with its own
REFILL = 500  # messages fetched at a time: the loop does nothing else meanwhile
SCAN = 1000  # recipients looked up at a time
SCAN_PAUSE = 0.02  # seconds from one look to the next, while there is enough to do without
READ_AGAIN_SECONDS = 1.0
IDLE_SECONDS = 60.0  # after its time, until a lane that nothing waits for is not stopped any more
NOBODY = ("", "")  # the lane of what no connector carries
BEFORE_ALL = (-math.inf, 0, 0)


class Supply:
    """`begin` starts the due recipients of a message in a lane, and returns whether there were any; `overdue` gets
    messages that became late, or whose lifetime is over, while they wait.
    """

    def __init__(
        self,
        reader: ServerReads,
        submit: Submit,
        clock: Clock,
        supervisor: Supervisor,
        lanes: Lanes,
        begin: Callable[[Due, Lane], bool],
        overdue: Callable[[Sequence[int]], None],
    ) -> None:
        self._reader = reader
        self._submit = submit
        self._clock = clock
        self._supervisor = supervisor
        self._lanes = lanes
        self._begin = begin
        self._overdue = overdue
        self.in_hand = InHand()
        self.stops = Stops(clock, supervisor, submit, self._look_at)
        self.deadlines = Deadlines(clock, supervisor, reader.ages, self._told_overdue)
        self.backlog = Backlog()
        self._ready: dict[Key, None] = {}  # lanes that may have a place for something in the backlog, in their order
        self._unfilled = False  # whether one of them has places still after what it was given last
        self._withheld: set[int] = set()  # messages that nothing is to leave of, for a while
        self._looked_up: list[int] = []  # messages to be looked up in the store again
        self._busy: set[int] = set()  # those to be looked up when they are not in hand any more
        self._early: set[int] = set()  # of those to be looked up, those that need not wait for their time
        self._delayed_from = BEFORE_ALL  # what is delayed was looked through up to here
        self._queued_from, self._queued_until = 0, 0  # what is queued, and was when this began: from here to there
        self._next_due = math.inf
        self._refilling = False  # until it has succeeded
        self._stepping = 0  # steps of the clock that are not written down yet
        self._timer: asyncio.TimerHandle | None = None
        self._going_on: asyncio.TimerHandle | None = None  # with what is due, after the loop has turned
        self._ended = False

    # --- its life -----------------------------------------------------------------------------------------------------

    def start(self) -> None:
        """Look through all that waits; what stopped a lane before is forgotten."""
        self.stops.forget(self._reader.lanes())
        self._queued_until = self._reader.last_id()
        self.deadlines.look()

    def start_over(self) -> None:
        """Look through all waiting recipients once more."""
        self.backlog.clear()
        self._ready.clear()
        self._queued_from, self._queued_until = 0, self._reader.last_id()
        self._delayed_from = BEFORE_ALL

    def end(self) -> None:
        """Give nothing any more."""
        self._ended = True
        for handle in (self._timer, self._going_on):
            if handle is not None:
                handle.cancel()
        self.deadlines.end()
        self.stops.end()

    def clock_stepped(self, by: float) -> None:
        """The clock was set by so many seconds: nothing is fetched until `shifted` says that the store knows."""
        # Times in the store are of the clock before, until the transaction that shifts them is committed. Whatever is
        # compared with `now` in between would be due at once, or expired, or not for days. Steps are counted, since the
        # clock may be set again before the first one is written.
        self._stepping += 1
        self.stops.clock_stepped(by)
        for job in self.in_hand:
            job.shift += by
        self._next_due += by
        self._set_alarm()

    def shifted(self) -> None:
        """Start over after the clock was set."""
        self._stepping -= 1
        self._delayed_from = BEFORE_ALL
        self.refill()
        self.deadlines.start_over()

    def make_due(self, connectors: Iterable[str]) -> None:
        """Make due what was delayed by these connectors."""
        now = self._clock.now()
        self._submit([RetryNow(name, now) for name in connectors], lambda error: self.retry_now(now))

    def retry_now(self, now: float) -> None:
        """The store has made some due as of `now`."""
        self._delayed_from = min(self._delayed_from, (now, 0, 0))
        self.refill()

    # --- one message --------------------------------------------------------------------------------------------------

    def is_free(self, id: int) -> bool:
        """Whether nothing is being done with a message."""
        return id not in self.in_hand and id not in self._withheld

    def withhold(self, id: int) -> None:
        """Hold back a message until it is let go."""
        self._withheld.add(id)

    def let_go(self, id: int) -> None:
        """Let the due recipients of a message start."""
        self._withheld.discard(id)
        self._busy.discard(id)
        self.look_up([id])

    def look_up(self, ids: Iterable[int]) -> None:
        """Look these up in the store: something of them may be due."""
        self._looked_up += ids
        self.refill()

    def take_to_give(self, most: int) -> list[int]:
        """Messages that another server may send: of lanes that move here, and nothing is being done with them."""
        ids: list[int] = []
        for key in [key for key in self.backlog.lanes() if self._moves(key, 0)]:
            taken = self.backlog.take(key, most - len(ids))
            ids += [id for id in taken if self.is_free(id)]
            self._looked_up += [id for id in taken if not self.is_free(id)]
        return ids

    def over(self, job: Job) -> bool:
        """A job is in hand no longer; whether nothing of its message is."""
        id = job.message.id
        if not self.in_hand.end(job):
            return False
        if id in self._busy:
            self._busy.discard(id)
            self._looked_up.append(id)
            self._supervisor.soon(self.refill)
        return True

    def choose_again(self, job: Job) -> bool:
        """A job is to leave by what is its lane now; whether nothing of its message is in hand."""
        self._busy.add(job.message.id)
        return self.over(job)

    def take_back(self, job: Job) -> bool:
        """A job goes back to where it waits, and nothing is written; whether nothing of its message is in hand."""
        free = self.over(job)
        if not self._supervisor.run(lambda: self.keep_waiting((job.connector, job.domain), job.message, first=True)):
            self._looked_up.append(job.message.id)
            self._supervisor.later(READ_AGAIN_SECONDS, self.refill)
        return free

    # --- places -------------------------------------------------------------------------------------------------------

    def has_place(self, lane: Lane, message: Message) -> bool:
        """Whether a new message may go to its lane at once: none of its own sender waits in the store before it."""
        if lane.key in self.backlog and self.backlog.has(lane.key, Flow.of(message)):
            return False
        if self._places(lane) > 0:
            return True
        if self.stops and self.stops.of(lane.key) is not None:
            return False
        flow = Flow.of(message)
        return lane.waiting(flow) < SENDER_PLACES and len(self.in_hand) < 2 * MAX_IN_HAND

    def _places(self, lane: Lane) -> int:
        """How many jobs more a lane may have now; one that does not move has one when its time is over."""
        # Isolation of lanes: SURE_PLACES are each lane's own whatever the others do, so a next hop that swallows
        # packets cannot take the places of one that is well. Beyond them a lane shares MAX_IN_HAND with all.
        jobs = lane.load.jobs
        if self.stops and self.stops.of(lane.key) is not None:
            return int(self._moves(lane.key, jobs))
        return max(SURE_PLACES - jobs, min(MAX_IN_LANE - jobs, MAX_IN_HAND - len(self.in_hand)))

    def keep_waiting(self, key: Key, message: Message, *, first: bool = False) -> None:
        """Put a message whose recipients cannot leave by that lane now into the backlog."""
        self.backlog.add(key, Flow.of(message), message.id, first=first)
        self._waits_in(key)

    def _waits_in(self, key: Key) -> None:
        """Something was added to the backlog of a lane."""
        if key == NOBODY and not self.stops.of(NOBODY):
            text = "no connector carries this recipient"  # nothing is tried until there is one
            self.stops.stop(unsent_stop(NOBODY, Cause.NO_CONNECTOR, text, self._clock.now()))
            self.deadlines.start_over()
        elif self._moves(key, 0):
            self._ready[key] = None
        self.deadlines.arm()

    def _moves(self, key: Key, jobs: int) -> bool:
        """Whether a lane with so many jobs in hand may have more."""
        if not self.stops or (stop := self.stops.of(key)) is None:
            return True
        return stop.until <= self._clock.now() and not jobs

    # --- what comes from the store ------------------------------------------------------------------------------------

    def refill(self) -> None:
        """Fetch what is due; where the store cannot be read, try again later."""
        if not self._refilling:
            self._refilling = True
            self._supervisor.until_done(self._fetch, READ_AGAIN_SECONDS)

    def _fetch(self) -> None:
        """Look through what has become due, and give lanes what they have places for."""
        now = self._clock.now()  # which may notice that the clock was set
        if self._ended or self._stepping:
            self._refilling = False
            return
        more = self._scan(now)
        self.deadlines.glance(now)
        fetched = self._fill(now)
        self._next_due = self._reader.next_due(now) or math.inf
        self._set_alarm()
        self._refilling = False
        if self._going_on is None and (more or fetched >= REFILL or self._unfilled):
            pause = SCAN_PAUSE if not self._ready and len(self.in_hand) > REFILL else 0.0
            self._going_on = self._supervisor.later(pause, self._go_on)

    def _go_on(self) -> None:
        self._going_on = None
        self.refill()

    def _scan(self, now: float) -> bool:
        """Put what waits in the store into the backlog, a portion at a time; whether there is more."""
        # Three sources, each looked through once and never as a whole: messages that were named (a change, an order),
        # what is delayed in the order of its time from `_delayed_from` on, and, after a start, what is queued in the
        # order of ids. All is read before anything is moved on: when a read fails, the same is looked for again.
        looked_up = self._looked_up[:REFILL]
        named = self._reader.waiting(looked_up, math.inf if self._early else now) if looked_up else []
        named = [item for item in named if item.next_try <= now or item.message in self._early]
        self._early -= set(looked_up) - {item.message for item in named}
        delayed = self._reader.delayed(self._delayed_from, now, SCAN)
        queued: Sequence[Waiting] = ()
        if self._queued_from < self._queued_until:
            queued = self._reader.queued(self._queued_from, self._queued_until, SCAN)
            queued_from = queued[-1].message if queued else self._queued_until
        if named or delayed:  # they have waited longer than what was never tried: they are the first of their flows
            self._file([*reversed(delayed), *reversed(named)], now, first=True)
        if queued:
            self._file(queued, now)
        del self._looked_up[: len(looked_up)]
        if delayed:
            self._delayed_from = delayed[-1].next_try, delayed[-1].message, delayed[-1].number
        if self._queued_from < self._queued_until:
            self._queued_from = queued_from
        return bool(self._looked_up) or len(delayed) == SCAN or self._queued_from < self._queued_until

    def _file(self, rows: Sequence[Waiting], now: float, *, first: bool = False) -> None:
        """Put recipients that are due into the backlog of their lanes, as they are by the settings of now."""
        rerouted: list[Reroute] = []
        overdue: list[int] = []
        lanes, last = self._lanes, None
        for row in rows:
            id = row.message
            # A recipient that is on its way now has its outcome recorded soon, which may be another time: it is looked
            # up again then, and must not be given a second time.
            if self.in_hand.has(id, row.number) or id in self._withheld:
                self._busy.add(id)
                continue
            carrier = lanes.carrier(row.address, row.reverse_path, row.via)
            key = lanes.key(carrier, row.address)
            if carrier != row.connector:
                rerouted.append(Reroute(carrier, id, row.number))
            if (id, key) != last:
                last = id, key
                self.backlog.add(key, Flow(row.who, Priority.of(row.priority)), id, first=first)
                self._waits_in(key)
            stopped = self.stops and self.stops.of(key) is not None
            if stopped and self.deadlines.passed(row.arrived, row.expires, now):
                overdue.append(id)
        if rerouted:
            self._submit(rerouted, lambda error: None)
        if overdue:
            self._told_overdue(overdue)

    def _fill(self, now: float) -> int:
        """Give the lanes that are ready what they have places for, each a share; how many messages that were."""
        # Each lane that is ready gets a share of what is fetched in one go, so that a lane with a long backlog does not
        # use it up before the others have had any; what it can take beyond that comes after the loop has turned.
        fetched, self._unfilled = 0, False
        share = max(REFILL // max(len(self._ready), 1), SURE_PLACES)
        for key in list(self._ready):
            if fetched >= REFILL:
                break
            lane = self._lanes.get(key)
            places = self._places(lane) if lane is not None else 0
            ids = self.backlog.take(key, min(places, share)) if places > 0 else []
            begun = self._begin_taken(lane, ids, now) if lane is not None and ids else 0
            fetched += len(ids)
            self._ready.pop(key, None)
            if key in self.backlog and begun != places:
                self._ready[key] = None  # behind the others
                self._unfilled |= bool(ids)  # it has places for more
        return fetched

    def _begin_taken(self, lane: Lane, ids: Sequence[int], now: float) -> int:
        """Start what was taken out of the backlog; where that fails, it is looked up again."""
        try:
            return self._begin_all(lane, ids, now)
        except Exception:
            self._looked_up += ids
            raise

    def _begin_all(self, lane: Lane, ids: Sequence[int], now: float) -> int:
        """Start the due recipients of these messages in a lane; their number."""
        begun = 0
        early = self._early.intersection(ids) if self._early else set()
        until = math.inf if early else now
        result = self._reader.due(list(dict.fromkeys(ids)), until, max(0, REFILL_OCTETS - self.in_hand.octets))
        self._early -= early
        for due in result:
            id = due.message.id
            if early and id not in early:
                due.recipients = [recipient for recipient in due.recipients if (recipient.next_try or now) <= now]
            if id in self._withheld:
                self._busy.add(id)
                continue
            if id in self.in_hand:
                free = [recipient for recipient in due.recipients if not self.in_hand.has(id, recipient.number)]
                if len(free) < len(due.recipients):
                    self._busy.add(id)
                due.recipients = free
            begun += self._begin(due, lane)
        return begun

    def _set_alarm(self) -> None:
        if self._timer is not None:
            self._timer.cancel()
            self._timer = None
        if self._next_due < math.inf:
            self._timer = self._supervisor.later(self._clock.real_delay(self._next_due) + 0.001, self.refill)

    def wait_until(self, at: float, id: int) -> None:
        """A recipient is due again then; where that was looked through before this was written, it is looked up."""
        # `_delayed_from` has passed everything up to its time. A row that is committed later with an earlier time (a
        # short wait beside a slow disk) lies behind it, and would be seen only after the next start.
        if at <= self._delayed_from[0]:
            self._looked_up.append(id)
            self.refill()
        elif at < self._next_due:
            self._next_due = at
            self._set_alarm()

    # --- lanes that stop and start ------------------------------------------------------------------------------------

    def stop_lane(self, stop: LaneStop) -> None:
        """A lane does not move, or still does not."""
        if self.stops.stop(stop):
            self.deadlines.start_over()

    def try_now(self, key: Key) -> None:
        """Try what is remembered as down."""
        lane = self._lanes.existing(key)
        if lane is not None:
            lane.hops.try_again(self._clock.now())
        self.stops.try_now(key)

    def try_connector(self, name: str) -> None:
        """The same for all lanes of a connector."""
        for key in [*self._lanes.keys_of(name), *(key for key in self.backlog.lanes() if key[0] == name)]:
            self.try_now(key)

    def came_up(self, key: Key) -> None:
        """A lane whose next hops were down moves again."""
        stop = self.stops.of(key)
        if stop is not None and stop.cause != Cause.ALLOWANCE_USED:
            self.start_lane(key)
            self._supervisor.soon(self.refill)

    def _told_overdue(self, ids: Sequence[int]) -> None:
        if not self._stepping:
            self._overdue([id for id in dict.fromkeys(ids) if self.is_free(id)])

    def _look_at(self, key: Key) -> None:
        """The time of a lane that does not move is over: one of its messages may try, or all may go."""
        stop = self.stops.of(key)
        if stop is not None and stop.cause == Cause.ALLOWANCE_USED:
            self.start_lane(key)
        elif key in self.backlog:
            self._ready[key] = None
        else:
            self._supervisor.later(IDLE_SECONDS, lambda: self._forget_idle(key))
        self.refill()

    def _forget_idle(self, key: Key) -> None:
        """A lane whose time is over, and that nothing waits for, is not stopped any more."""
        stop, lane = self.stops.of(key), self._lanes.existing(key)
        idle = key not in self.backlog and (lane is None or not lane.load.jobs)
        if stop is not None and stop.until <= self._clock.now() and idle:
            self.start_lane(key)

    def start_lane(self, key: Key) -> None:
        """A lane moves; where the stop was of all lanes of a connector, they all do."""
        tried = self.stops.start(key)
        if tried is not None:
            self._early.update(tried)
            self._looked_up += tried
            self._ready |= dict.fromkeys(
                lane for lane in self.backlog.lanes() if lane == key or (not key[1] and lane[0] == key[0])
            )

    def has_places(self, key: Key, jobs: int) -> None:
        """A lane has so many jobs left: where few, it gets more."""
        if not self._ready and not self.backlog.lanes():
            return
        if jobs <= MAX_IN_LANE // 2 and key in self.backlog and self._moves(key, jobs):
            self._ready[key] = None
        if self._ready and (len(self.in_hand) < MAX_IN_HAND // 2 or jobs <= SURE_PLACES // 2):
            self.refill()
