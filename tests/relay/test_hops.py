"""Several next hops: failover, what is down, and how the queue drains when it is back."""

from __future__ import annotations

import asyncio
import ssl
from collections.abc import Callable, Sequence
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest

from copper_kite.monitoring import Totals, take_readings
from copper_kite.net import read_certificate
from copper_kite.net.authority import CertificateFiles
from copper_kite.net.dialogue import Dialogue
from copper_kite.net.failure import PassedOver, SessionFailed, Tried
from copper_kite.net.plan import Plan
from copper_kite.relay import network as network_module
from copper_kite.relay.decide import Retry
from copper_kite.relay.hops import Hops
from copper_kite.relay.service import Service
from copper_kite.session.standin import Caught, Rule, StandIn, StandInPlan
from copper_kite.settings.load import load_configuration
from copper_kite.smtp.extensions import Offers
from copper_kite.smtp.replies import Reply
from copper_kite.store import AdminRequest, Reader, Selection, open_store, read_live, write_live
from copper_kite.store.sqlite.schema import connect_writer
from copper_kite.trace.story import tell_story
from copper_kite.words import Action, Cause, Event, Stage, State
from tests.configuration import store_of
from tests.looping import happens
from tests.relay.test_relay import letter, talk
from tests.support import SECONDS, PatientClock, StoppedClock, converse, free_port, site, write_site

RETRY = Retry([60.0, 300.0, 900.0], jitter=0.0)


class Opened(str):
    """What stands for a session with a host."""

    tried: Sequence[Tried] = ()
    passed_over: Sequence[PassedOver] = ()
    chain: Sequence[bytes] = ()

    async def close(self) -> None: ...


class Net:
    """Which hosts answer; what was asked of them. `now` is the time."""

    def __init__(self, monkeypatch: pytest.MonkeyPatch, *up: str) -> None:
        self.up, self.asked = set(up), []  # type: ignore[var-annotated]
        self.now = 0.0
        self.passed_over: list[str] = []
        self.chain: tuple[bytes, ...] = ()
        self.failure = SessionFailed(Stage.CONNECT, Cause.CONNECTION_REFUSED, "connection refused")
        monkeypatch.setattr(network_module, "open_session", self._open)

    async def _open(self, plan: Plan, dialogue: Dialogue, earlier: object, memory: object) -> Opened:
        self.asked.append(plan.host)
        if plan.host not in self.up:
            failure = self.failure
            raise SessionFailed(failure.stage, failure.cause, failure.text)
        session = Opened(plan.host)
        session.chain = self.chain
        return session

    def three(self, **more: Any) -> Hops:
        plans = [Plan(host=host, port=25, name="q") for host in ("one", "two", "three")]
        return Hops(plans, RETRY, lambda: self.now, **more)

    def tried(self, hops: Hops, now: float) -> tuple[str, list[str]]:
        """Which host a session at `now` is with, and whom it took to find out; the session carries something."""
        self.now = now
        self.asked.clear()
        try:
            session = asyncio.run(hops.open(Dialogue(0.0)))
            result = str(session)
            self.passed_over = [item.next_hop for item in session.passed_over]
            hops.worked(next(plan for plan in hops.plans if plan.host == result))
        except SessionFailed:
            result = ""
        return result, self.asked.copy()


def test_the_next_one_is_tried_when_one_cannot_be_had(monkeypatch: pytest.MonkeyPatch) -> None:
    """C-18: in order; one that was down is left alone for its wait, then tried behind those that are up."""
    net = Net(monkeypatch, "two", "three")
    told: list[tuple[str, bool]] = []
    hops = net.three(told=lambda plan, down: told.append((plan.host, down is not None)))
    assert net.tried(hops, 0) == ("two", ["one", "two"]) and told == [("one", True)]
    assert net.tried(hops, 30) == ("two", ["two"]) and net.passed_over == ["one:25"]
    net.up = {"one"}
    assert net.tried(hops, 61)[0] == "one"
    assert sorted(net.asked) == ["one", "one", "three", "two"], "one of them is the look beside the mail"
    assert net.tried(hops, 62) == ("one", ["one"])


def test_a_second_look_explains_a_failure_and_is_taken_once_in_a_while(monkeypatch: pytest.MonkeyPatch) -> None:
    """What `probe` knows: a port that says nothing in clear waits for TLS; a fault of the look costs no mail."""
    net, looks = Net(monkeypatch), []

    async def look(plan: Plan, failure: SessionFailed) -> SessionFailed:
        looks.append(plan.host)
        if plan.host == "two":
            raise ValueError("a fault of ours")
        return SessionFailed(Stage.GREET, Cause.SPEAKS_TLS, "it waits for TLS", seen=failure.seen)

    monkeypatch.setattr(network_module, "look_again", look)
    net.failure = SessionFailed(Stage.GREET, Cause.TIMED_OUT, "nothing came")
    hops = net.three()
    for now, looked in ((0, ["one", "two", "three"]), (60, ["two"]), (3700, ["one", "two", "three"])):
        looks.clear()
        assert net.tried(hops, now)[0] == "" and looks == looked
        assert [down.failure.cause for down in hops.all_down.values()] == [
            Cause.SPEAKS_TLS, Cause.TIMED_OUT, Cause.SPEAKS_TLS
        ]  # fmt: skip
    net.up = {"one"}
    assert net.tried(hops, 9999)[0] == "one"
    net.up.clear()
    looks.clear()
    assert net.tried(hops, 99_999)[0] == "" and "one" in looks, "it may be another kind of port by now"


async def test_the_first_has_its_turn_again_when_it_is_back(monkeypatch: pytest.MonkeyPatch) -> None:
    """C-18: it is looked at beside the mail, which does not wait for it, once each wait; then sessions move there."""
    net = Net(monkeypatch, "two")
    hops = net.three()

    for now, up, result in (
        (0, "two", "two"),
        (61, "two", "two"),
        (100, "two", "two"),
        (361, "one", "two"),
        (362, "one", "one"),
    ):
        net.now, net.up = now, {"two", up}
        assert await hops.open(Dialogue(0.0)) == result
        await asyncio.sleep(0)
        await asyncio.sleep(0)
        assert [hops.has_better(plan) for plan in hops.plans] == [False, up == "one", True]
    assert net.asked == ["one", "two", "two", "one", "two", "two", "one", "one"]


def test_a_connector_is_down_when_all_of_them_are(monkeypatch: pytest.MonkeyPatch) -> None:
    """Each time it is left alone for longer; it says since when; one that carries something ends it."""
    net = Net(monkeypatch)
    hops = net.three()
    assert hops.down(0) is None and net.tried(hops, 0) == ("", ["one", "two", "three"])
    down = hops.down(10)
    assert down is not None and (down.since, down.until, down.failure.text) == (0, 60, "connection refused")
    assert [item.next_hop for item in down.failure.seen.tried] == ["one:25"], "the record has all that were tried"
    assert hops.down(60) is None and net.tried(hops, 60)[0] == ""
    down = hops.down(61)
    assert down is not None and (down.since, down.until) == (0, 360)
    net.up = {"three"}
    assert net.tried(hops, 360)[0] == "three" and hops.down(361) is None and hops.any_fit


async def test_a_session_alone_does_not_end_what_is_down(monkeypatch: pytest.MonkeyPatch) -> None:
    """One that turns each session away under its first message is left alone for longer each time."""
    net = Net(monkeypatch, "one", "two", "three")
    hops = net.three()
    closed = SessionFailed(Stage.SENDER, Cause.REPLY, "closed", Reply(421, "4.3.2", "no"))
    for until in (60, 360, 1260):
        for plan in hops.plans:
            hops.failed(plan, closed)
        down = hops.down(net.now)
        assert down is not None and down.until == until and not hops.any_fit
        net.now = until
        assert await hops.open(Dialogue(0.0)) == "one"


def test_spread_takes_them_by_chance(monkeypatch: pytest.MonkeyPatch) -> None:
    net = Net(monkeypatch, "one", "two", "three")
    hops = net.three(spread=True)
    assert {net.tried(hops, 0)[0] for _ in range(60)} == {"one", "two", "three"}


async def test_a_fault_of_ours_is_a_failure_like_any_other(monkeypatch: pytest.MonkeyPatch) -> None:
    net = Net(monkeypatch)
    hops = net.three()
    monkeypatch.setattr(network_module, "open_session", lambda *_: 1 / 0)
    with pytest.raises(SessionFailed) as stopped:
        await hops.open(Dialogue(0.0))
    assert stopped.value.cause is Cause.INTERNAL and "ZeroDivisionError" in stopped.value.text
    assert hops.down(0.0) is not None


# --- the whole way ---------------------------------------------------------------------------------------------------


def stand_in(folder: Path, caught: list[Caught], **more: object) -> StandIn:
    return StandIn(StandInPlan(name="localhost", folder=folder, tls="off", **more), caught.append)  # type: ignore[arg-type]


async def test_mail_goes_by_the_second_host_when_the_first_turns_it_away(folder: Path) -> None:
    """C-18: refused connection, a 421 as greeting; a 550 to a recipient is final, and no other host is asked."""
    caught: list[Caught] = []

    from copper_kite.session.behaviour import Rule

    busy = stand_in(folder / "1", caught, rules=[Rule(stage=Stage.GREET, reply=Reply(421, "4.3.2", "busy"))])
    good = stand_in(folder / "2", caught, rules=[Rule("gone@*", Reply(550, "5.1.1", "no"))])
    ports = [free_port(), await busy.start("127.0.0.1", 0), await good.start("127.0.0.1", 0)]
    config = write_site(folder, ports[0], tls="off")
    hosts = ", ".join(f'"localhost:{port}"' for port in ports)
    log = f'\n[log]\nto = "file:{folder / "log"}"\n'
    config.write_text(config.read_text().replace(f'["localhost:{ports[0]}"]', f"[{hosts}]") + log)
    service = await Service.start(load_configuration(config), StoppedClock())
    endpoint = service.endpoints[0]
    with open_store(store_of(folder / "queue")).reader() as reader:
        for message in (letter("ok@x.example", "gone@x.example", sender=""), letter("next@x.example", sender="")):
            await converse(endpoint.port, talk(message))
            await happens(lambda: not reader.queue())
        first, _, second = reader.queue(tuple(State))
        record, later = reader.record(first.message.id), reader.record(second.message.id)
        downs = [entry.facts for entry in reader.noted(Event.DOWN, 0.0)]
        (state,) = reader.connectors()
    (lane,) = service.dispatcher.lanes_now()
    write_live(folder, [lane])
    assert read_live(folder) == [lane] and [item.next_hop for item in lane.down] == [
        f"localhost:{port}" for port in ports[:2]
    ]
    assert [(down["next_hop"], down["text"]) for down in downs] == [
        (f"localhost:{ports[0]}", "connection refused"), (f"localhost:{ports[1]}", "421 4.3.2 busy")
    ]  # fmt: skip
    assert state.last_bad_text == f"localhost:{ports[1]}: 421 4.3.2 busy" and state.last_bad
    warned = [line for line in (folder / "log").read_text().splitlines() if " warning down " in line]
    assert len(warned) == 2, "each once"
    tried = {item.next_hop: item.said for item in record.attempts[0].facts.session.tried}
    passed = {item.next_hop: item.said for item in later.attempts[0].facts.session.passed_over}
    assert tried == passed == {down["next_hop"]: down["text"] for down in downs}
    assert [recipient.state for recipient in record.recipients] == [State.RELAYED, State.FAILED]
    (attempt,) = record.attempts
    assert attempt.next_hop == f"localhost:{ports[2]}" and len(caught) == 2
    await service.stop()
    await busy.stop()
    await good.stop()


@pytest.mark.data_folder
async def test_a_host_that_is_down_costs_one_attempt_and_then_all_goes(folder: Path) -> None:
    """Q-11: thirty messages wait without thirty attempts; one finds out that it is back, and the queue drains."""
    caught: list[Caught] = []

    clock, hop = StoppedClock(), free_port()
    service = await Service.start(load_configuration(write_site(folder, hop, tls="off")), clock)
    endpoint = service.endpoints[0]
    for number in range(30):
        await converse(endpoint.port, talk(letter(f"r{number}@x.example")))
    with open_store(store_of(folder / "queue")).reader() as reader:
        await happens(lambda: len([row for row in reader.queue() if row.recipient.state is State.DELAYED]) >= 30)
        rows = reader.queue()
        (tried,) = [row for row in rows if row.recipient.attempts]
        assert len({row.recipient.next_try for row in rows}) == 1, "all of them wait for the same attempt"
        assert sum("is down since" in row.recipient.reply for row in rows) == 29
        assert untouched(folder) == 29, "nothing was written of those that only wait"
        before = clock.time = tried.recipient.next_try or 0.0
        service.dispatcher.supply.refill()
        await turn_until(lambda: all((row.recipient.next_try or 0.0) > before for row in reader.queue()))
        rows = reader.queue()
        assert sum(row.recipient.attempts for row in rows) == 2, "one attempt for all of them"
        assert untouched(folder) == 29
        here = stand_in(folder / "1", caught)
        await here.start("127.0.0.1", hop)
        clock.time = rows[0].recipient.next_try or 0.0
        service.dispatcher.supply.refill()
        await turn_until(lambda: len(caught) == 30)
        await turn_until(lambda: not reader.queue())
        assert sum(row.recipient.attempts for row in reader.queue(tuple(State))) == 32, "then all go, at once"
        assert caught[0].recipients == (tried.recipient.address,), "the oldest first"
    await service.stop()
    await here.stop()


def untouched(folder: Path) -> int:
    """How many messages the store holds as they came."""
    with closing(connect_writer(folder / "queue")) as connection:
        return int(connection.execute("SELECT count(*) FROM compact").fetchone()[0])


async def test_another_one_tries_where_the_one_that_would_is_gone(folder: Path) -> None:
    """What waits must not depend on one message; and a start, or another configuration, tries them, too."""
    caught: list[Caught] = []

    def all_wait(reader: Reader) -> bool:
        return reader.totals() == {State.DELAYED: 5}

    clock, hop = PatientClock(), free_port()
    config = write_site(folder, hop, tls="off")
    service = await Service.start(load_configuration(config), clock)
    endpoint = service.endpoints[0]
    for number in range(5):
        await converse(endpoint.port, talk(letter(f"r{number}@x.example")))
    with open_store(store_of(folder / "queue")).reader() as reader:
        await turn_until(lambda: all_wait(reader))
        (tries,) = [row for row in reader.queue() if row.recipient.attempts]
        open_store(store_of(folder / "queue")).add_requests(
            [AdminRequest(0, clock.now(), "root", Action.PARK, tries.message.id, 1)]
        )
        service.dispatcher.carry_out_requests()
        await turn_until(lambda: reader.totals() == {State.DELAYED: 4, State.PARKED: 1})
        here = stand_in(folder / "1", caught)
        await here.start("127.0.0.1", hop)
        clock.time += 400.0
        await turn_until(lambda: len(caught) == 4)
        await here.stop()
        for number in range(5, 8):
            await converse(endpoint.port, talk(letter(f"r{number}@x.example")))
        await turn_until(lambda: reader.totals().get(State.DELAYED) == 3)
        wait = sum(not row.recipient.attempts for row in reader.queue([State.DELAYED]))
        assert wait
        await service.stop()
        here = stand_in(folder / "2", caught)
        await here.start("127.0.0.1", hop)
        service = await Service.start(load_configuration(config), clock)
        await turn_until(lambda: len(caught) == 4 + wait)  # what was tried has a time of its own
        clock.time += 400.0
        await turn_until(lambda: len(caught) == 7)
    await service.stop()
    await here.stop()


async def turn_until(holds: Callable[[], bool]) -> None:
    await happens(holds)


@pytest.mark.parametrize(
    ("rule", "side", "code"),
    [
        (Rule(reply=Reply(421, "4.3.2", "too busy"), stage=Stage.GREET), "next hop", "421 4.3.2"),
        (Rule(reply=Reply(454, "4.7.0", "no logins now"), stage=Stage.LOGIN), "next hop", "454 4.7.0"),
    ],
)
async def test_a_session_that_is_refused_holds_the_rest(
    rule: Rule, side: str, code: str, folder: Path, authority: CertificateFiles
) -> None:
    """A reply to the session, as to a wrong password, stops all alike: one attempt, and all wait with its codes."""

    async with site(folder, authority, rules=(rule,), clock=StoppedClock()) as here:
        await converse(here.port, talk(*(letter(f"r{number}@x.example") for number in range(30))))
        await here.until(lambda reader: reader.summary().by_state == {State.DELAYED: 30})
        with here.reader() as reader:
            rows = reader.queue()
            assert sum(row.recipient.attempts for row in rows) < 5
            held = next(row for row in rows if not row.recipient.attempts)
            assert held.recipient.reply.startswith(code) and "is down since" in held.recipient.reply
            verdict = tell_story(reader.record(held.message.id), {}, running=True).verdict
            assert verdict.side == side and code in verdict.evidence
            (group,) = reader.groups("reason")
            assert (group.name, group.recipients) == (str(rule.reply), 30), "one reason, tried or not"
            assert len(reader.select(Selection(reason=group.name))) == 30


async def test_what_no_connector_carries_goes_when_there_is_one(folder: Path) -> None:
    """By a reload, and after a restart with another configuration: at once, without waiting for a next try."""
    caught: list[Caught] = []

    here = stand_in(folder / "1", caught)
    hop = await here.start("127.0.0.1", 0)
    config = write_site(folder, hop, tls="off", extra='recipients = ["crew.example"]\n')
    service = await Service.start(load_configuration(config), StoppedClock())
    endpoint = service.endpoints[0]
    await converse(endpoint.port, talk(letter("a@one.example"), letter("b@two.example")))
    with open_store(store_of(folder / "queue")).reader() as reader:
        async with asyncio.timeout(SECONDS):
            await happens(lambda: all(row.recipient.state is State.DELAYED for row in reader.queue(tuple(State))))
            config.write_text(config.read_text().replace('["crew.example"]', '["crew.example", "one.example"]'))
            await service.reload(load_configuration(config))
            await happens(lambda: [message.recipients for message in caught] == [("a@one.example",)])
            await service.stop()
            config.write_text(config.read_text().replace('["crew.example", "one.example"]', '["*"]'))
            again = await Service.start(load_configuration(config), StoppedClock())
            await happens(lambda: len(caught) >= 2)
    await again.stop()
    await here.stop()


async def test_a_host_without_8bitmime_gets_the_message_in_seven_bits(folder: Path) -> None:
    """C-21: converted; what cannot be converted right fails with 5.6.3, and is never sent as it is."""
    caught: list[Caught] = []
    signed = b'Content-Type: multipart/signed; boundary="b"\r\n\r\n--b\r\n\r\n\xc3\xbcber\r\n--b--\r\n'

    here = stand_in(folder / "1", caught, offers=Offers(max_size=10**6, withheld=frozenset({"8BITMIME"})))
    service = await Service.start(
        load_configuration(write_site(folder, await here.start("127.0.0.1", 0), tls="off")), StoppedClock()
    )
    endpoint = service.endpoints[0]
    text = "Subject: x\r\nContent-Type: text/plain; charset=utf-8\r\n\r\nüber\r\n".encode()
    letters = [letter(who, sender="", content=body) for who, body in (("a@x.example", text), ("b@x.example", signed))]
    await converse(endpoint.port, talk(*(item.replace(b"<>", b"<> BODY=8BITMIME", 1) for item in letters)))
    with open_store(store_of(folder / "queue")).reader() as reader:
        await happens(lambda: len(reader.queue(tuple(State))) >= 2 and not reader.queue())
        states = {row.recipient.address: row.recipient for row in reader.queue(tuple(State))}
    assert states["a@x.example"].state is State.RELAYED and "5.6.3" in states["b@x.example"].reply
    (item,) = caught
    assert item.file is not None and item.file.read_bytes().isascii() and b"=C3=BCber" in item.file.read_bytes()
    await service.stop()
    await here.stop()


async def test_a_session_that_is_being_opened_does_not_hold_up_the_end(folder: Path) -> None:
    """A host that takes the connection and says nothing: no message is in hand, and the one that waits stays queued."""

    met = asyncio.Event()

    async def silent(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        met.set()
        await reader.read()
        writer.close()

    server = await asyncio.start_server(silent, "127.0.0.1", 0)
    port = server.sockets[0].getsockname()[1]
    service = await Service.start(load_configuration(write_site(folder, port, tls="off")), StoppedClock())
    endpoint = service.endpoints[0]
    await converse(endpoint.port, talk(letter("a@x.example")))
    async with asyncio.timeout(SECONDS):
        await met.wait()
        await service.stop(50 * SECONDS)
    with open_store(store_of(folder / "queue")).reader() as reader:
        assert [row.recipient.state for row in reader.queue()] == [State.QUEUED]
    server.close()


def test_a_certificate_is_reported_when_it_is_another_one_and_once_a_week(monkeypatch: pytest.MonkeyPatch) -> None:
    net, shown = Net(monkeypatch, "one"), list[tuple[float, bytes]]()
    hops = net.three(shown=lambda plan, certificate: shown.append((net.now, certificate)))
    net.tried(hops, 0)
    net.chain = (b"first", b"authority")
    for now in (10, 20, 8 * 86400, 8 * 86400 + 10):
        net.tried(hops, now)
    net.chain = (b"second",)
    net.tried(hops, 8 * 86400 + 20)
    assert shown == [(10, b"first"), (8 * 86400, b"first"), (8 * 86400 + 20, b"second")]


async def test_the_certificate_of_a_next_hop_is_in_the_journal(folder: Path, authority: CertificateFiles) -> None:
    """For the alarm about certificates: as last seen, and only of next hops that are configured."""
    async with site(folder, authority) as here:
        await converse(here.port, talk(letter("ana@passenger.example")))
        await here.until(lambda reader: reader.noted(Event.CERTIFICATE, 0.0))
        (entry,) = here.reader().noted(Event.CERTIFICATE, 0.0)
        ends = read_certificate(ssl.PEM_cert_to_DER_cert(authority.certificate.read_text())).not_after
        readings = take_readings(here.loaded, Totals(), entry.at)
        assert readings.certificates == [("next hop", f"{entry.facts['next_hop']} of beacon", ends)]
        here.loaded.path.write_text(here.loaded.source.replace('name = "beacon"', 'name = "other"'))
        assert take_readings(load_configuration(here.loaded.path), Totals(), entry.at).certificates == []
