"""Stops of lanes: their next hops are down, their allowance is used up, or no connector carries the mail.

It is a fact of the lane, written once: nothing is written of what waits in it. When its time is over, one message may
try; when that goes well, the lane moves again.
"""

from __future__ import annotations

import asyncio
import math
from collections.abc import Callable, Iterable
from functools import partial

from copper_kite.clock import Clock
from copper_kite.errors import KiteError
from copper_kite.mail import format_date
from copper_kite.net import SessionFailed, SessionSeen
from copper_kite.relay.backlog import Key
from copper_kite.relay.delivery import AttemptFailure
from copper_kite.relay.hops import Down
from copper_kite.relay.supervisor import Supervisor
from copper_kite.smtp import Reply
from copper_kite.store import LaneStop, StartLane, StopLane, Submit
from copper_kite.verdict import side_of
from copper_kite.words import Cause, Side, Stage

__all__ = ["Stops", "down_stop", "over_limit", "stop_of", "unsent_stop"]

MOST_TRIED = 1000  # messages remembered of a lane
AGAIN_SECONDS = 1.0  # until a fact that could not be written is tried again


class Stops:
    """The lanes that do not move. `look` is called with a lane when its time is over."""

    def __init__(self, clock: Clock, supervisor: Supervisor, submit: Submit, look: Callable[[Key], None]) -> None:
        self._clock = clock
        self._supervisor = supervisor
        self._submit = submit
        self._look = look
        self._stops: dict[Key, LaneStop] = {}
        self._timers: dict[Key, asyncio.TimerHandle] = {}
        self._tried: dict[Key, list[int]] = {}
        self._unwritten: set[Key] = set()  # lanes of which the store knows something else
        self._writing = False
        self._ended = False

    def __bool__(self) -> bool:
        return bool(self._stops)

    def of(self, lane: Key) -> LaneStop | None:
        """The reason a lane is stopped; with `mx`, all of its connector's lanes may be."""
        return self._stops.get(lane) or self._stops.get((lane[0], ""))

    def stop(self, stop: LaneStop) -> bool:
        """A lane does not move, or still does not; whether it did before."""
        # The fact is the lane's, and is written once: what waits in it stays as it is in the store, however much that
        # is. Lists and stories join the two. So an outage costs one row at each retry, with ten messages or a
        # million.
        key = (stop.connector, stop.domain)
        before = self._stops.get(key)
        self._stops[key] = stop
        self._set_timer(key, stop.until)
        self._write(key)
        return before is None

    def tried(self, lane: Key, id: int) -> None:
        """A message tried, and found that its lane does not move: it has a time of its own, and need not keep it."""
        # Bounded: those beyond MOST_TRIED keep their own time of the next try.
        tried = self._tried.setdefault(lane, [])
        if len(tried) < MOST_TRIED:
            tried.append(id)

    def start(self, lane: Key) -> list[int] | None:
        """A lane moves: the messages that had tried meanwhile; None where it moved before."""
        if self._stops.pop(lane, None) is None:
            return None
        self._cancel(lane)
        self._write(lane)
        return self._tried.pop(lane, [])

    def start_all(self, connectors: Iterable[str]) -> None:
        """The lanes of these connectors may move."""
        names = set(connectors)
        for lane in [lane for lane in self._stops if lane[0] in names]:
            self.start(lane)

    def forget(self, known: Iterable[LaneStop]) -> None:
        """Remove the stops of an earlier run from the store: their lanes are tried again."""
        for stop in known:
            self._write((stop.connector, stop.domain))

    def try_now(self, lane: Key) -> None:
        """Try a stopped lane now."""
        now = self._clock.now()
        for key in (lane, (lane[0], "")):
            stop = self._stops.get(key)
            if stop is not None and stop.until > now:
                self._stops[key] = stop._replace(until=now)
                self._set_timer(key, now)

    def clock_stepped(self, by: float) -> None:
        """The clock was set by so many seconds: what is stopped stays so for as long as it was to."""
        for key, stop in self._stops.items():
            self._stops[key] = stop._replace(since=stop.since + by, until=stop.until + by, at=stop.at + by)
            self._set_timer(key, self._stops[key].until)

    def end(self) -> None:
        """Look at none of them any more."""
        self._ended = True
        for timer in self._timers.values():
            timer.cancel()

    def _set_timer(self, lane: Key, until: float) -> None:
        self._cancel(lane)
        if until < math.inf and not self._ended:
            self._timers[lane] = self._supervisor.later(self._clock.real_delay(until), partial(self._time_over, lane))

    def _cancel(self, lane: Key) -> None:
        timer = self._timers.pop(lane, None)
        if timer is not None:
            timer.cancel()

    def _time_over(self, lane: Key) -> None:
        stop = self._stops.get(lane)
        self._timers.pop(lane, None)
        if stop is None:
            return
        if stop.until > self._clock.now():  # the timer's clock is not quite ours
            self._set_timer(lane, stop.until)
        else:
            self._look(lane)

    def _write(self, lane: Key) -> None:
        """Write the changes to the store; changes during a write go together afterwards."""
        self._unwritten.add(lane)
        if not self._writing:
            self._writing = True
            self._supervisor.soon_until_done(self._write_all)

    def _write_all(self) -> None:
        lanes, self._unwritten = self._unwritten, set()
        operations = [
            StopLane(self._stops[lane]) if lane in self._stops else StartLane(*lane) for lane in sorted(lanes)
        ]
        try:
            self._submit(operations, partial(self._written, lanes))
        except Exception:
            self._unwritten |= lanes
            raise

    def _written(self, lanes: set[Key], error: KiteError | None) -> None:
        if error is not None:
            self._unwritten |= lanes
            self._supervisor.later(AGAIN_SECONDS, partial(self._supervisor.until_done, self._write_all, AGAIN_SECONDS))
        elif self._unwritten:
            self._supervisor.soon_until_done(self._write_all)
        else:
            self._writing = False


def down_stop(lane: Key, down: Down, next_hop: str, now: float) -> LaneStop:
    """A lane whose next hops are down."""
    failure, reply = down.failure, down.failure.reply
    where = failure.seen.next_hop or next_hop
    text = f"{reply.text if reply else failure.text} ({where} is down since {format_date(down.since)})"
    return LaneStop(
        *lane,
        since=down.since,
        until=down.until,
        at=now,
        stage=failure.stage.value,
        side=_side(failure, reply, mx=bool(lane[1])),
        cause=failure.cause.value,
        code=reply.code if reply else None,
        enhanced=reply.enhanced if reply else "",
        text=str(Reply(reply.code, reply.enhanced, text)) if reply else text,  # the codes tell what is wrong there
        next_hop=where,
        address=failure.seen.address,
    )


def _side(failure: SessionFailed, reply: Reply | None, *, mx: bool) -> str:
    code, enhanced = (reply.code, reply.enhanced) if reply else (None, "")
    return side_of(failure.stage, failure.cause, code, enhanced, failure.text, mx=mx).value


def unsent_stop(lane: Key, cause: Cause, text: str, now: float, until: float = math.inf) -> LaneStop:
    """A lane in which nothing is tried, for a local reason."""
    return LaneStop(
        *lane,
        since=now,
        until=until,
        at=now,
        stage=Stage.RESOLVE.value,
        side=Side.HERE.value,
        cause=cause.value,
        code=None,
        enhanced="",
        text=text,
    )


def over_limit(connector: str, size: int, limit: int) -> AttemptFailure:
    """A message has more octets than its connector may carry: it fails, and nothing is tried."""
    text = f"the message has {size} octets, connector {connector} takes {limit}"
    reply = Reply(552, "5.3.4", text)
    return AttemptFailure(stage=Stage.SENDER, cause=Cause.OVER_OWN_LIMIT, text=text, reply=reply, attempted=False)


def stop_of(stop: LaneStop, now: float) -> AttemptFailure:
    """The same, for the record of one message that waits in that lane."""
    reply = None
    if stop.code is not None:
        text = stop.text.removeprefix(f"{stop.code} ").removeprefix(f"{stop.enhanced} ")
        reply = Reply(stop.code, stop.enhanced, text)
    return AttemptFailure(
        stage=Stage(stop.stage),
        cause=Cause(stop.cause),
        text=stop.text,
        reply=reply,
        until=now,
        attempted=False,
        shown=stop.text,
        seen=SessionSeen(next_hop=stop.next_hop, address=stop.address),
    )
