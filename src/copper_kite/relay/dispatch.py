"""What goes next: fresh messages straight from memory, and what is due from the store.

No more than MAX_IN_HAND messages are in memory; the rest waits in the store and is fetched as room comes free.
"""

from __future__ import annotations

import asyncio
import contextlib
import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from functools import partial

from copper_kite.clock import Clock
from copper_kite.errors import KiteError, NotFound
from copper_kite.mail.received import format_date
from copper_kite.net.failure import SessionFailed, SessionSeen
from copper_kite.net.plan import Plan
from copper_kite.net.tls import client_context
from copper_kite.relay.allowances import Allowances
from copper_kite.relay.decide import Retry
from copper_kite.relay.delivery import Recorder, Report, Stop
from copper_kite.relay.hops import Down, Hops, MxHops, literal_address
from copper_kite.relay.job import Job
from copper_kite.relay.lane import Lane
from copper_kite.relay.log import Log
from copper_kite.relay.notices import make_notices
from copper_kite.relay.orders import Orders
from copper_kite.relay.outcomes import log_change, log_relayed
from copper_kite.relay.poison import Poison
from copper_kite.relay.returning import Key, Returning
from copper_kite.relay.supervisor import Supervisor
from copper_kite.routing.choose import Router
from copper_kite.routing.plan import make_plan, make_plans
from copper_kite.settings.load import Loaded
from copper_kite.settings.model import Connector
from copper_kite.settings.units import Endpoint
from copper_kite.smtp.replies import Reply
from copper_kite.store.ids import IdMaker, id_text
from copper_kite.store.live import LaneNow
from copper_kite.store.model import (
    Change,
    Due,
    Fresh,
    JournalEntry,
    Message,
    Recipient,
    Relayed,
    Submit,
    Wanted,
)
from copper_kite.store.reads import Reader
from copper_kite.words import Cause, Event, Stage, State

__all__ = ["Dispatcher"]

MAX_IN_HAND = 4000  # messages
MAX_LANES = 2000  # of domains; beyond, those without a session are forgotten
MAX_CONTENT_IN_HAND = 32 * 1024 * 1024  # octets of fresh content kept in memory; beyond, it is read from the store
REFILL_BELOW = MAX_IN_HAND // 2
REFILL_OCTETS = 8 * 1024 * 1024  # of content in memory, up to which what is fetched comes with its own
REFILL = 500  # messages fetched at a time: the loop does nothing else meanwhile
RECORD_AGAIN_SECONDS = 1.0
LONGEST_WAIT = 60.0  # seconds from one try to record something to the next


@dataclass(slots=True)
class _Hand:
    """A message in hand: its jobs not yet recorded, and the octets of its content in memory.

    While it is in hand, nobody looks for those of its recipients that wait for a time: `later` is the first one's.
    """

    jobs: int
    octets: int
    later: float = math.inf
    shift: float = 0.0  # seconds by which the clock was set since it was taken: its lifetime ends so much later


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
        self._loaded = loaded
        self._submit = submit
        self._reader = reader
        self._clock = clock
        self._ids = ids
        self._lanes: dict[tuple[str, str], Lane] = {}  # by connector and, with `mx`, by the recipients' domain
        self._mx: dict[str, Connector] = {}
        self._retired: list[Lane] = []  # their sessions finish what they have in hand
        self._returning = Returning(clock, self._supervisor, submit, reader, self._lane_next_try, self._hastened)
        self._allowances = Allowances(log, clock.now, reader.relayed_since, self._carry, self._wait_for_allowance)
        self._being_done: set[int] = set()  # messages that an administrator's order is changing now
        self._wants_more = False
        self._allowances.take_up(loaded.settings.connector)
        self._take_up(loaded)
        self._offered: list[Fresh] = []
        self._in_hand: dict[int, _Hand] = {}
        self._content_in_hand = 0
        self._refilling = False  # until it has succeeded
        self._stepping = 0  # steps of the clock that are not written down yet
        self._more = True  # whether the store may hold something due that is not in hand
        self._queued_from = 0  # the lowest id of one that may be queued and not in hand
        self._timer: asyncio.TimerHandle | None = None
        self._going_on: asyncio.Handle | None = None  # with what is due, after the loop has turned
        self._next_due = math.inf
        self._stopping = False

    def _take_up(self, loaded: Loaded) -> list[Job]:
        """Go by `loaded`. Lanes that stay the same stay open; the jobs that waited for others are returned."""
        self._loaded = loaded
        retry = Retry(loaded.settings.retry.waits)
        self._notices = make_notices(loaded, self._ids)
        self._recorder = Recorder(retry, self._ids, self._notices)
        self._limits = {entry.name: entry.max_size for entry in loaded.settings.connector if entry.max_size is not None}
        self._router = Router(loaded.settings.connector)
        self._enabled = {entry.name for entry in loaded.settings.connector if entry.enabled}
        before, self._lanes = self._lanes, {}
        self._mx = {connector.name: connector for connector in loaded.settings.connector if connector.mx}
        for connector in loaded.settings.connector:
            if connector.mx:
                continue
            key = (connector.name, "")
            plans, lane = make_plans(loaded, connector), before.get(key)
            if lane is not None and lane.hops.plans == plans and lane.fits(connector):
                self._lanes[key] = before.pop(key)
            else:
                hops = Hops(plans, retry, self._clock.now, spread=connector.spread, fault=self.fault)
                self._lanes[key] = Lane(connector, hops, self, self._clock.now)
        self._retired = [*(lane for lane in self._retired if lane.at_work), *before.values()]
        return [job for lane in before.values() for job in lane.retire()]

    def do_what_is_wanted(self) -> None:
        """Carry out what an administrator wants; what is in hand now has its turn when it no longer is."""
        self._take_offered()
        orders = Orders(self._recorder, self._reader.content)
        lanes: set[tuple[str, str]] = set()  # that are to be tried now, each once
        wanted: dict[int, list[Wanted]] = {}
        for one in self._reader.wanted():
            wanted.setdefault(one.message, []).append(one)
        for id, ones in wanted.items():
            if id in self._in_hand or id in self._being_done:
                self._wants_more = True
            else:
                self._supervisor.run(partial(self._carry_out, orders, id, ones, lanes), message=id_text(id))
        for key in lanes & self._lanes.keys():
            self._lanes[key].hops.try_again(self._clock.now())

    def _carry_out(self, orders: Orders, id: int, ones: Sequence[Wanted], lanes: set[tuple[str, str]]) -> None:
        notices: Sequence[Fresh] = ()
        change = Change(done=[one.number for one in ones])
        with contextlib.suppress(NotFound):
            message, recipients = self._reader.recipients(id)
            change, notices = orders.carry_out(message, recipients, ones, self._clock.now())
            queued = {outcome.number for outcome in change.outcomes if outcome.state is State.QUEUED}
            going = [one for one in recipients if one.number in queued]
            lanes.update(self._key(one, message.reverse_path) for one in going)
        self._being_done.add(id)  # until then nothing of it may leave
        self._submit(change, partial(self._done, id, change, notices))

    def _done(self, id: int, change: Change, notices: Sequence[Fresh], error: KiteError | None) -> None:
        self._being_done.discard(id)
        if error is not None:
            self._supervisor.later(RECORD_AGAIN_SECONDS, self.do_what_is_wanted)
            return
        for entry in (entry for entry in change.journal if entry.event is Event.ORDERED):
            facts = {**entry.facts, "recipients": len(entry.facts["recipients"])}
            self.log.write("notice", "ordered", id=id_text(id), **facts)
        for notice in notices:
            self.offer(notice)
        if change.recipients or any(outcome.state is State.QUEUED for outcome in change.outcomes):
            self._leave_queued(id)
            self._refill()

    def reload(self, loaded: Loaded) -> None:
        """Take up other settings: what has not begun to leave goes by them, what has is finished."""
        client_context.cache_clear()  # a trusted file may say something else by now
        held, before = self._allowances.let_go(), set(self._lanes.values())
        changed = self._allowances.take_up(loaded.settings.connector)
        for job in self._take_up(loaded):
            self.give_back(job)
        for job in held:
            self._start_again(job)
        changed += [name for (name, _), lane in self._lanes.items() if lane not in before]
        # What waited for a connector that is another one now, or for any at all, need not wait any longer.
        self._hasten(["", *changed, *self._mx])
        for name in self._reader.holding():
            if name in self._mx or name in changed or name not in self._enabled:
                self._let_go(name)

    def _let_go(self, connector: str) -> None:
        """What is held for a connector is tried by its settings of now, or by another one."""
        if connector in self._mx:
            self._returning.release_all(connector)
        else:
            self._returning.begin((connector, ""))

    def _lane_next_try(self, key: Key) -> float | None:
        lane, now = self._lanes.get(key), self._clock.now()
        if lane is None:
            return None
        down = lane.hops.down(now)
        return down.until if down is not None else now if lane.at_work else None

    def _hasten(self, connectors: Iterable[str]) -> None:
        """What waits for these connectors is due now."""
        now = self._clock.now()
        self._submit(Change(hastened=[(now, name) for name in connectors]), lambda error: self._hastened(now))

    def _hastened(self, now: float) -> None:
        for hand in self._in_hand.values():
            if hand.later < math.inf:  # whom it was is looked at when the message is no longer in hand
                hand.later = min(hand.later, now)
        self._refill()

    def give_back(self, job: Job) -> None:
        """A job that its lane will not carry any more: choose again."""
        self._allowances.settle(job, 0)
        self._start_again(job)

    def _start_again(self, job: Job) -> None:
        hand = self._in_hand[job.message.id]
        groups = self._grouped(job.message, job.recipients)
        hand.jobs += len(groups) - 1
        for key, group in groups.items():
            self._start_job(job.message, group, key, job.octets, job.whole and len(groups) == 1)

    def start(self) -> None:
        """Begin with what is due, and with what no connector carried: there may be one now."""
        self._hasten([""])
        for name in self._reader.holding():
            self._let_go(name)

    async def stop(self, seconds: float) -> None:
        """Finish what is in hand, within `seconds`; the rest stays in the store as it is."""
        self._stopping = True
        if self._timer is not None:
            self._timer.cancel()
        await asyncio.gather(*(lane.stop(seconds) for lane in (*self._lanes.values(), *self._retired)))
        self._returning.end()

    # --- what comes in ----------------------------------------------------------------------------------------------

    def offer(self, fresh: Fresh) -> None:
        """Take a message that has just become durable: with all of its commit, when their senders are answered."""
        if not self._offered:
            self._supervisor.soon(self._take_offered)
        self._offered.append(fresh)

    def _take_offered(self) -> None:
        offered, self._offered = self._offered, []
        for fresh in offered:
            self._take(fresh)

    def _take(self, fresh: Fresh) -> None:
        """Have it leave; when there is no room, it comes from the store later."""
        if fresh.message.id in self._in_hand:  # a refill found it in the store just before
            return
        if self._stopping or len(self._in_hand) >= MAX_IN_HAND:
            self._leave_queued(fresh.message.id)
            return
        content = fresh.content
        if content is not None and self._content_in_hand + len(content) > MAX_CONTENT_IN_HAND:
            content = None
        self._dispatch(fresh.message, fresh.recipients, content, fresh=True)

    def left_in_store(self, ids: Iterable[int]) -> None:
        """These are durable, and a fault of ours kept them from being offered."""
        for id in ids:
            self._leave_queued(id)
        self._refill()

    def _leave_queued(self, id: int) -> None:
        """This one is queued, in the store alone."""
        self._more = True
        self._queued_from = min(self._queued_from, id)

    def _refill(self) -> None:
        """Fetch what is due; where the store cannot be read now, try again by and by."""
        if not self._refilling:
            self._refilling = True
            self._supervisor.until_done(self._fetch, RECORD_AGAIN_SECONDS)

    def _fetch(self) -> None:
        """Fetch what is due, as far as there is room, and set the alarm for what is due next."""
        self._take_offered()  # they are in the store, too
        if self._stopping:
            self._refilling = False
            return
        now = self._clock.now()
        if self._stepping:
            self._refilling = False
            return
        room = min(MAX_IN_HAND - len(self._in_hand), REFILL)
        taken = {*self._in_hand, *self._being_done} if self._being_done else self._in_hand
        memory = max(0, REFILL_OCTETS - self._content_in_hand)
        found: list[Due] = []
        if room > 0:
            found, self._queued_from = self._reader.due(now, room, taken, memory, self._queued_from)
        self._more = len(found) >= room
        for due in found:
            self._dispatch(due.message, due.recipients, due.content, later=due.later)
        self._next_due = self._reader.next_due(now) or math.inf
        self._set_alarm()
        self._refilling = False
        if not self._more:
            self._returning.more()
        if self._more and room == REFILL and self._going_on is None:
            self._going_on = self._supervisor.soon(self._go_on)

    def _go_on(self) -> None:
        self._going_on = None
        self._refill()

    def _set_alarm(self) -> None:
        if self._timer is not None:
            self._timer.cancel()
            self._timer = None
        if self._next_due < math.inf:
            self._timer = self._supervisor.later(self._clock.real_delay(self._next_due) + 0.001, self._refill)

    def _wake_at(self, at: float) -> None:
        if at < self._next_due:
            self._next_due = at
            self._set_alarm()

    # --- what goes out ----------------------------------------------------------------------------------------------

    def _dispatch(
        self,
        message: Message,
        recipients: list[Recipient],
        content: bytes | None,
        *,
        fresh: bool = False,
        later: float = math.inf,
    ) -> None:
        """Give each recipient to its connector's lane, those with the same one together.

        Of a `fresh` message they are all there are; else the first of the others may be due `later`.
        """
        size = len(content) if content is not None else 0
        hand = self._in_hand[message.id] = _Hand(1, size, later)
        self._content_in_hand += size
        try:
            groups = self._grouped(message, recipients)
        except Exception as error:
            self._fail_alone(message, recipients, error)
            return
        hand.jobs = len(groups)
        whole = fresh and content is not None and len(groups) == 1
        for key, group in groups.items():
            self._start_job(message, group, key, content, whole)

    def _fail_alone(self, message: Message, recipients: list[Recipient], error: Exception) -> None:
        """These cannot even be given to a lane, by a fault of ours: that is their attempt."""
        words = self.fault(error, message=id_text(message.id))
        job = Job(message, recipients, "", None, None, self._reader.content)
        self._record_stopped(job, Stop(stage=Stage.RESOLVE, cause=Cause.INTERNAL, text=words))

    def _grouped(self, message: Message, recipients: list[Recipient]) -> dict[tuple[str, str], list[Recipient]]:
        """The recipients by the lane that is to carry them."""
        path = message.reverse_path
        if len(recipients) == 1:
            return {self._key(recipients[0], path): recipients}
        groups: dict[tuple[str, str], list[Recipient]] = {}
        for recipient in recipients:
            groups.setdefault(self._key(recipient, path), []).append(recipient)
        return groups

    def _key(self, recipient: Recipient, reverse_path: str) -> tuple[str, str]:
        name = recipient.via  # which an administrator chose, as long as there is one of that name
        if name not in self._enabled:
            name = self._router.carrier(recipient.address, reverse_path)
        return name, recipient.address.rpartition("@")[2].lower() if name in self._mx else ""

    def _lane(self, key: tuple[str, str]) -> Lane | None:
        """The lane for these recipients, made now where it is one of many domains; None when nobody carries them."""
        lane = self._lanes.get(key)
        name, domain = key
        if lane is not None or name not in self._mx:
            return lane
        if len(self._lanes) >= MAX_LANES:
            self._lanes = {other: lane for other, lane in self._lanes.items() if not other[1] or lane.at_work}
        connector = self._mx[name]
        own = {self._loaded.server_name.lower()}
        listening = [bind for entry in self._loaded.settings.listener if entry.enabled for bind in entry.bind]
        retry = Retry(self._loaded.settings.retry.waits)
        plan = make_plan(self._loaded, connector)
        hops = MxHops(domain, plan, retry, self._clock.now, own, listening, fault=self.fault)
        lane = self._lanes[key] = Lane(
            connector, hops, self, self._clock.now, Endpoint(literal_address(domain) or domain, connector.next_hop.port)
        )
        return lane

    def _start_job(
        self,
        message: Message,
        recipients: list[Recipient],
        key: tuple[str, str],
        content: bytes | None,
        whole: bool,
    ) -> None:
        try:
            self._give_to_lane(message, recipients, key, content, whole)
        except Exception as error:
            self._fail_alone(message, recipients, error)

    def _give_to_lane(
        self,
        message: Message,
        recipients: list[Recipient],
        key: tuple[str, str],
        content: bytes | None,
        whole: bool,
    ) -> None:
        lane, (connector, domain) = self._lanes.get(key) or self._lane(key), key
        if lane is None:
            text = "no connector carries this recipient"
            # Nothing is tried until there is one: `reload` and `start` look again.
            job = Job(message, recipients, "", None, content, self._reader.content)
            self._record_unsent(job, Cause.NO_CONNECTOR, text, until=message.expires)
            return
        job = Job(message, recipients, connector, lane.next_hop, content, self._reader.content, domain, whole)
        if connector in self._limits and message.size > self._limits[connector]:
            text = f"the message has {message.size} octets, connector {connector} takes {self._limits[connector]}"
            reply = Reply(552, "5.3.4", text)
            stop = Stop(stage=Stage.SENDER, cause=Cause.OVER_OWN_LIMIT, text=text, reply=reply, attempted=False)
            self._record_stopped(job, stop)
        elif connector in self._allowances:
            self._allowances.offer(job)
        else:
            lane.add(job)

    def _carry(self, job: Job) -> None:
        """What its allowance lets leave."""
        lane = self._lane((job.connector, job.domain))
        assert lane is not None
        lane.add(job)

    def _wait_for_allowance(self, job: Job, text: str, until: float) -> None:
        self._record_unsent(job, Cause.ALLOWANCE_USED, text, until=until)

    def report(self, plan: Plan | None, report: Report) -> asyncio.Future[None]:
        """Record what an attempt found; the future is done when that is on stable storage (see `lane.Sink`)."""
        if report.job.connector in self._allowances:
            count = sum(result.stage is Stage.ACCEPT and result.reply.code < 300 for result in report.results)
            self._supervisor.run(partial(self._allowances.settle, report.job, count))
        return self._record_report(plan, report)

    def _record_report(self, plan: Plan | None, report: Report) -> asyncio.Future[None]:
        message = report.job.message
        if shift := self._in_hand[message.id].shift:
            message = message._replace(expires=message.expires + shift)
            report = report._replace(job=replace(report.job, message=message))
        try:
            change, notices = self._change_of(report, self._clock.now(), plan)
            return self._record(message, change, notices)
        except Exception as error:
            self.fault(error, message=id_text(message.id))
            return self._shelve(message.id)

    def _shelve(self, id: int) -> asyncio.Future[None]:
        """A job of which nothing at all can be recorded: its message stays in the store as it is, for a while alone."""
        hand = self._in_hand[id]
        hand.jobs -= 1
        if not hand.jobs:
            self._forget_hand(id, hand)
            self._being_done.add(id)
            self._supervisor.later(LONGEST_WAIT, partial(self._unshelve, id))
        done: asyncio.Future[None] = self._loop.create_future()
        done.set_result(None)
        return done

    def _unshelve(self, id: int) -> None:
        self._being_done.discard(id)
        self._leave_queued(id)
        self._refill()

    def _forget_hand(self, id: int, hand: _Hand) -> None:
        del self._in_hand[id]
        self._content_in_hand -= hand.octets

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

    def sessions_limited(self, connector: str, allowed: int, failure: SessionFailed) -> None:
        """A next hop refused one session more (see `lane.Sink`)."""
        said = str(failure.reply or failure.text)
        self.log.write("notice", "sessions", connector=connector, allowed=allowed, reply=said)

    def lanes_now(self) -> list[LaneNow]:
        """The lanes that have sessions, or may have fewer than their settings allow."""
        lanes = [LaneNow(name, domain, *lane.sessions) for (name, domain), lane in self._lanes.items()]
        return [lane for lane in lanes if lane.open or lane.allowed < lane.most]

    def fault(self, error: BaseException, **facts: object) -> str:
        """Note an exception that nobody expected; the words for it (see `lane.Sink`)."""
        return self._supervisor.note(error, **facts)

    def divided(self, job: Job) -> None:
        """A job became two (see `lane.Sink`)."""
        self._in_hand[job.message.id].jobs += 1

    def clock_stepped(self, by: float, before: float, entry: JournalEntry) -> None:
        """The machine's clock was set by so many seconds, and showed `before`: spans stay as they were to be.

        Nothing is fetched from the store before that is shifted there, too.
        """
        self._stepping += 1
        self._submit(Change(journal=[entry], shifted=[(by, before)]), self._shifted)
        for lane in (*self._lanes.values(), *self._retired):
            lane.hops.clock_stepped(by)
        for hand in self._in_hand.values():
            hand.later += by
            hand.shift += by
        self._next_due += by
        self._set_alarm()

    def _shifted(self, error: KiteError | None) -> None:
        self._stepping -= 1
        self._refill()

    def tell_postmaster(self, subject: str, text: str, entry: JournalEntry) -> None:
        """Write to whoever looks after this server, and into the journal."""
        fresh = self._notices.report(subject, text, self._clock.now())
        entry.message = fresh.message.id
        content = [(fresh.message.id, 0, fresh.content or b"")]
        change = Change([fresh.message], fresh.recipients, content, journal=[entry])
        self._submit(change, lambda error: None if error else self.offer(fresh))

    def hold(self, job: Job, down: Down) -> None:
        """A job waits, since its connector's next hops are down (see `lane.Sink`)."""
        self._allowances.settle(job, 0)
        failure = down.failure
        where = failure.seen.next_hop or job.next_hop
        said = failure.reply
        text = f"{where} is down since {format_date(down.since)}: {said.text if said else failure.text}"
        stop = Stop(
            stage=failure.stage,
            cause=failure.cause,
            text=text,
            reply=said,
            until=math.inf,
            attempted=False,
            held=True,
            shown=str(Reply(said.code, said.enhanced, text)) if said else text,  # the codes tell what is wrong there
            seen=SessionSeen(next_hop=failure.seen.next_hop, address=failure.seen.address),
        )
        self._record_stopped(job, stop)
        self._returning.stop((job.connector, job.domain), down.until)

    def came_back(self, lane: Lane) -> None:
        """Next hops work again (see `lane.Sink`)."""
        for key, one in self._lanes.items():
            if one is lane:
                self._supervisor.run(partial(self._returning.begin, key))
                break

    def _record_unsent(self, job: Job, cause: Cause, text: str, until: float) -> None:
        stop = Stop(stage=Stage.RESOLVE, cause=cause, text=text, until=until, attempted=False)
        self._record_stopped(job, stop)

    def _record_stopped(self, job: Job, stop: Stop) -> None:
        self._record_report(None, Report(job, self._clock.now(), 0.0, stop=stop))

    def _record(self, message: Message, change: Change | Relayed, notices: Sequence[Fresh]) -> asyncio.Future[None]:
        recorded: asyncio.Future[None] = self._loop.create_future()
        self._submit(change, partial(self._written, message, change, notices, recorded))
        return recorded

    def _written(
        self,
        message: Message,
        change: Change | Relayed,
        notices: Sequence[Fresh],
        recorded: asyncio.Future[None],
        error: KiteError | None,
        wait: float = RECORD_AGAIN_SECONDS,
    ) -> None:
        if error is not None:  # the disk is full or failing: what is known must not be forgotten, so try on
            again = partial(self._written, message, change, notices, recorded, wait=min(2 * wait, LONGEST_WAIT))
            self._supervisor.later(wait, partial(self._submit, change, again))
            return
        if not recorded.done():
            recorded.set_result(None)
        hand = self._in_hand[message.id]
        hand.jobs -= 1
        if isinstance(change, Change):
            self._recorded(hand, change, notices)
        if not hand.jobs:
            self._forget_hand(message.id, hand)
            self._wake_at(hand.later)
            if self._wants_more:
                self._wants_more = False
                self.do_what_is_wanted()
        if self._more and len(self._in_hand) < REFILL_BELOW:
            self._refill()

    def _recorded(self, hand: _Hand, change: Change, notices: Sequence[Fresh]) -> None:
        for outcome in change.outcomes:
            if outcome.next_try is not None:
                hand.later = min(hand.later, outcome.next_try)
        for notice in notices:
            self.offer(notice)
