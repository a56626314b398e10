"""One message that cannot be handled, wherever that shows: it is held alone, and all others leave."""

from __future__ import annotations

import asyncio
import importlib
import threading
import time
from collections.abc import Callable
from contextlib import suppress
from functools import partial
from pathlib import Path
from typing import Any

import pytest

from copper_kite.clock import SystemClock
from copper_kite.net.authority import CertificateFiles
from copper_kite.relay import lag
from copper_kite.relay.poison import PARK_AFTER, Poison
from copper_kite.relay.recorded import Recorded
from copper_kite.relay.supervisor import Supervisor
from copper_kite.session.standin import Rule
from copper_kite.smtp.replies import Reply
from copper_kite.store import Reader, SetState
from copper_kite.store.sqlite.reads import SqliteReads
from copper_kite.words import State
from tests.looping import happens
from tests.support import SECONDS, Site, converse, site

INNOCENT = 100
KEPT = {State.QUEUED, State.DELAYED, State.PARKED, State.RELAYED}

# Where a fault of ours may strike: in intake, store, routing, transforms, the lane, the session, and the record.
PLACES = [
    "relay.intake:Intake.mail_from",
    "relay.intake:Intake.recipient_to",
    "relay.intake:Intake.content_ended",
    "relay.intake:take_in",
    "store.shared.writer:_encode_fresh",
    "relay.dispatch:Dispatcher.take",
    "relay.dispatch:Dispatcher._grouped",
    "relay.dispatch:Dispatcher._give_to_lane",
    "relay.dispatch:Dispatcher._record_of",
    "relay.dispatch:Dispatcher._recorded",
    "relay.dispatch:log_relayed",
    "relay.dispatch:log_recorded",
    "routing.choose:Router.carrier",
    "relay.lane:Lane.add",
    "relay.lane:Lane._attempt",
    "relay.lane:Lane._prepare",
    "relay.lane:prepare",
    "relay.job:Job._envelope_of",
    "relay.job:Job.content",
    "net.relaying:Transaction",
    "net.relaying:RelaySession.relay",
    "relay.delivery:Recorder.relayed",
    "relay.delivery:Recorder.record",
]

IF_PUT_OFF = {"relay.delivery:Recorder.record", "relay.dispatch:log_recorded", "relay.dispatch:Dispatcher._recorded"}


def find(place: str) -> tuple[Any, str, Callable[..., Any]]:
    """What holds a place, under which name, and what it is."""
    module, _, name = place.partition(":")
    owner: Any = importlib.import_module(f"copper_kite.{module}")
    *outer, attribute = name.split(".")
    for part in outer:
        owner = getattr(owner, part)
    return owner, attribute, getattr(owner, attribute)


def strike(monkeypatch: pytest.MonkeyPatch, place: str) -> list[str]:
    """Have `place` raise for whatever is about the guilty message; the list grows with each time."""
    owner, attribute, original = find(place)
    struck: list[str] = []

    def instead(*given: Any, **named: Any) -> Any:
        if "guilty" in repr((given, named)):
            struck.append(place)
            raise RuntimeError("a fault that was made")
        return original(*given, **named)

    monkeypatch.setattr(owner, attribute, instead)
    return struck


def letters(*names: str) -> bytes:
    """Messages of one session, each command behind the other."""
    messages = (
        f"MAIL FROM:<{name}@ternferries.example>\r\nRCPT TO:<{name}@x.example>\r\nDATA\r\nSubject: {name}\r\n\r\nx\r\n.\r\n"
        for name in names
    )
    return ("EHLO h\r\n" + "".join(messages) + "QUIT\r\n").encode()


async def hand_in(here: Site) -> bytes:
    """Half of the innocent, then the guilty one in a session of its own, then the other half."""
    names = [f"n{number}" for number in range(INNOCENT)]
    await converse(here.port, letters(*names[: INNOCENT // 2]))
    heard = await converse(here.port, letters("guilty"))
    await converse(here.port, letters(*names[INNOCENT // 2 :]))
    return heard


@pytest.mark.parametrize("place", PLACES)
async def test_a_fault_of_ours_holds_its_own_message_alone(
    folder: Path, authority: CertificateFiles, monkeypatch: pytest.MonkeyPatch, place: str
) -> None:

    struck = strike(monkeypatch, place)
    later = (Rule("guilty@*", Reply(451, "4.7.1", "later")),) if place in IF_PUT_OFF else ()
    async with site(folder, authority, tls="off", rules=later) as here:
        heard = await hand_in(here)

        def innocents_left(reader: Reader) -> bool:
            left = [row for row in reader.queue([State.RELAYED]) if not row.recipient.address.startswith("guilty")]
            return len(left) == INNOCENT

        await here.until(innocents_left)
        rows = {row.recipient.address: row.recipient.state for row in here.reader().queue(list(State))}
        # Nothing was lost: it was not taken, or it waits, or it had left before that struck.
        assert rows.get("guilty@x.example") in KEPT or b"\r\n250 2.0.0 kept" not in heard
        assert struck


# What the loop, a timer or a task calls, and what they set up next; none of it is about one message.
CALLED = [
    "relay.hops:Hops.open",
    "relay.hops:Hops.open_extra",
    "relay.hops:Hops.order",
    "relay.hops:Hops.down",
    "relay.hops:Hops.look_again",
    "relay.lane:Lane.grow",
    "relay.lane:Lane._open_session",
    "relay.lane:Lane.carry_jobs",
    "relay.lane:Lane._next_job",
    "relay.concurrency:Concurrency.allowed",
    "relay.dispatch:Dispatcher._take_offered",
    "relay.supply:Supply._fetch",
    "relay.supply:Supply._told_overdue",
    "relay.supply:Supply.wait_until",
    "relay.dispatch:Dispatcher._submit_record",
    "relay.supply:Supply._scan",
    "relay.supply:Supply._file",
    "relay.supply:Supply._fill",
    "relay.supply:Supply._begin_all",
    "relay.supply:Supply.keep_waiting",
    "relay.dispatch:Dispatcher._stop_for_allowance",
    "relay.stops:Stops._write_all",
    "relay.deadlines:Deadlines.look",
    "store.sqlite.reads:SqliteReads.due",
    "relay.streamed_message:StreamedMessage._write",
    "relay.admission:Reservation.spent",
    "relay.refusals:Refusals.flush",
    "relay.admission:AdmissionControl.refusal",
    "relay.dispatch:Dispatcher.offer",
    "net.opening:open_session",
    "net.conversation:Conversation.close",
    "net.server:ServerSession.sweep",
    "net.server:ServerSession._go_on",
    "net.server:ServerSession.answer",
    "net.server:SessionRegistry.add",
    "net.client_protocol:ClientProtocol._check",
    "net.tls_transport:TlsTransport._flush",
    "store.shared.writer:GroupWriter._rows",
]
PARTS = 6  # in each of which a part of them is struck


class _QuickClock(SystemClock):
    """A minute of it is a moment."""

    def __init__(self) -> None:
        self._began = time.time()

    def now(self) -> float:  # type: ignore[override]
        return self._began + 500.0 * (time.time() - self._began)

    steady = now  # type: ignore[assignment]

    def apart(self) -> float:
        return 0.0

    def real_delay(self, until: float) -> float:
        return max(0.0, until - self.now()) / 500.0


def strike_at_times(monkeypatch: pytest.MonkeyPatch, place: str) -> list[int]:
    """Have `place` raise at its second call and at its fourth; how often it was called."""
    owner, attribute, original = find(place)
    calls = [0]

    def instead(*given: Any, **named: Any) -> Any:
        calls[0] += 1
        if calls[0] in (2, 4):
            raise RuntimeError("a fault that was made")
        return original(*given, **named)

    monkeypatch.setattr(owner, attribute, instead)
    return calls


@pytest.mark.parametrize("part", range(PARTS))
async def test_a_fault_in_what_the_loop_calls_stops_nothing_else(
    folder: Path, authority: CertificateFiles, monkeypatch: pytest.MonkeyPatch, part: int
) -> None:
    """Several places, twice each: what was submitted leaves all the same, and nothing spins."""
    big = b"MAIL FROM:<a@x.example>\r\nRCPT TO:<big@y.example>\r\nDATA\r\n" + b"xxxxxx\r\n" * 150_000 + b".\r\n"
    sessions = [
        letters("n0"), b"EHLO h\r\n" + big + b"QUIT\r\n", b"RCPT TO:<x>\r\n" * 60 + b"QUIT\r\n",
        *(letters(f"n{number}", f"m{number}") for number in range(1, 25)),
    ]  # fmt: skip

    monkeypatch.setattr("copper_kite.relay.refusals.SECONDS", 0.01)
    monkeypatch.setattr("copper_kite.net.server.SWEEP_SECONDS", 0.01)
    monkeypatch.setattr("copper_kite.relay.dispatch.LONGEST_WAIT", 0.01)
    called = [strike_at_times(monkeypatch, place) for place in CALLED[part::PARTS]]
    async with site(folder, authority, clock=_QuickClock()) as here:
        kept = 0
        for lines in sessions:
            with suppress(ConnectionError):
                kept += (await converse(here.port, lines)).count(b"\r\n250 2.0.0 kept")
        await here.until(lambda reader: reader.totals().get(State.RELAYED, 0) >= kept)
        assert kept >= 30
        assert all(calls[0] < 5000 for calls in called)


async def test_a_client_whose_session_has_a_fault_is_told(
    folder: Path, authority: CertificateFiles, monkeypatch: pytest.MonkeyPatch
) -> None:

    strike(monkeypatch, "relay.intake:Intake.recipient_to")
    async with site(folder, authority, tls="off") as here:
        heard = await converse(here.port, letters("guilty"))
        assert heard.endswith(b"421 4.3.0 an error of this server's own; closing\r\n")


def test_a_message_that_faults_hit_again_and_again_is_parked() -> None:
    poison = Poison()
    for number in range(1, PARK_AFTER + 1):
        recorded = Recorded(states=[SetState(7, 1, State.DELAYED, number, 50.0, "beacon", "fault", 1.0)])
        assert poison.parks(7, recorded, 2.0) == (number == PARK_AFTER)
        assert poison.parks(number + 100, Recorded(states=recorded.states), 2.0) is False, "others are counted apart"
    (state,) = recorded.states
    assert (state.state, state.next_try) == (State.PARKED, None)
    assert [entry.message for entry in recorded.entries] == [7]


@pytest.mark.data_folder
async def test_a_store_that_cannot_be_read_for_a_while_strands_nothing(
    folder: Path, authority: CertificateFiles, monkeypatch: pytest.MonkeyPatch
) -> None:
    """What had no room in memory comes from the store; a look that fails is made again."""
    from copper_kite.relay import supply

    monkeypatch.setattr(supply, "MAX_IN_HAND", 2)
    monkeypatch.setattr(supply, "SURE_PLACES", 2)
    monkeypatch.setattr(supply, "SENDER_PLACES", 0)
    monkeypatch.setattr(supply, "READ_AGAIN_SECONDS", 0.01)
    looks: list[int] = []
    due = SqliteReads.due

    def instead(self: SqliteReads, *given: Any) -> Any:
        looks.append(1)
        if len(looks) % 2:
            raise OSError("disk I/O error")
        return due(self, *given)

    monkeypatch.setattr(SqliteReads, "due", instead)
    async with site(folder, authority, tls="off") as here:
        await hand_in(here)
        await here.until_caught(INNOCENT + 1)
        assert len(looks) >= 2


async def test_a_fault_with_the_first_message_of_a_session_costs_the_next_one_nothing(
    folder: Path, authority: CertificateFiles, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The session is ended before anything went over it: the next message must not be tried on it."""
    struck = strike(monkeypatch, "relay.lane:Lane._prepare")
    async with site(folder, authority, tls="off", extra="sessions = 1\n") as here:
        await converse(here.port, letters("guilty", "n0", "n1"))
        await here.until_caught(2)
        await here.until(lambda reader: reader.totals() == {State.RELAYED: 2, State.DELAYED: 1})
        with here.reader() as reader:
            relayed = reader.queue((State.RELAYED,))
        assert struck and [row.recipient.attempts for row in relayed] == [1, 1]


async def test_repeated_work_goes_on_after_a_fault() -> None:

    told: list[object] = []
    supervisor = Supervisor(_Log(told))  # type: ignore[arg-type]
    done, calls = asyncio.Event(), []

    def work() -> None:
        calls.append(1)
        if len(calls) == 3:
            done.set()
        raise ValueError("again")

    repeated = supervisor.every(0.0, work)
    await done.wait()
    repeated.cancel()
    assert len(told) >= 2, "each is told, with its traceback once"
    assert sum(bool(facts["trace"]) for facts in told) == 1  # type: ignore[index]


async def test_what_holds_the_loop_is_told_once_with_its_place(monkeypatch: pytest.MonkeyPatch) -> None:
    """The loop is held, in a line of the product, until the watcher has looked."""
    looked = lag._place

    told: list[str] = []
    monitor = lag.LagMonitor(lambda place, seconds: told.append(place))
    supervisor = Supervisor(_Log([]))  # type: ignore[arg-type]
    saw = threading.Event()

    def look(frame: Any) -> str:
        saw.set()
        return looked(frame)

    monkeypatch.setattr(lag, "_place", look)
    supervisor.run(partial(saw.wait, SECONDS))
    await happens(lambda: told)
    monitor._note(told[0], 1.0)  # a second time
    monitor.stop()
    await asyncio.sleep(0)
    assert len(told) == 1 and told[0].startswith("relay/supervisor.py:") and "(run)" in told[0], told


class _Log:
    def __init__(self, told: list[object]) -> None:
        self._told = told

    def write(self, level: str, event: str, **facts: object) -> None:
        self._told.append(facts)
