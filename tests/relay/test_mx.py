"""Straight to the mail exchangers: which ones, in which order, and what a domain without any means."""

from __future__ import annotations

import asyncio
import re
from pathlib import Path

import pytest

from copper_kite.net import records as records_module
from copper_kite.net.authority import make_authority
from copper_kite.net.failure import SessionFailed
from copper_kite.net.plan import Plan
from copper_kite.net.resolve import mail_exchangers, resolve_host
from copper_kite.relay.decide import Retry
from copper_kite.relay.hops import MxHops
from copper_kite.relay.service import Service
from copper_kite.routing.mx import mx_order
from copper_kite.session.standin import Caught, Rule, StandIn, StandInPlan
from copper_kite.settings.load import load_configuration
from copper_kite.settings.server_tls import server_context
from copper_kite.settings.units import Endpoint
from copper_kite.smtp.replies import Reply
from copper_kite.store import Reader, Record, open_store
from copper_kite.words import Cause, Stage, State
from tests.configuration import store_of
from tests.looping import happens
from tests.relay.test_relay import letter, talk
from tests.support import StoppedClock, converse, free_port, write_site

ZONE = """\
$TTL 60
passenger.example.      IN MX 20 b.mx.example.
passenger.example.      IN MX 10 a.mx.example.
a.mx.example.           IN A 127.0.0.1
b.mx.example.           IN A 127.0.0.1
crew.example.           IN A 127.0.0.1
alias.example.          IN CNAME passenger.example.
round.example.          IN CNAME about.example.
about.example.          IN CNAME round.example.
closed.example.         IN MX 0 .
ours.example.           IN MX 10 quay1.ternferries.example.
nowhere.example.        IN MX 10 missing.mx.example.
nowhere.example.        IN A 127.0.0.1
"""


def zone(folder: Path, text: str = ZONE) -> str:
    path = folder / "trial.zone"
    path.write_text(text)
    return f"zone:{path}"


def test_the_order_is_that_of_the_preferences() -> None:
    """C-13, C-17: rising, equals by chance; no records: the domain itself; from our own upwards none."""
    records = [(20, "c"), (10, "a"), (10, "b")]
    orders = {tuple(mx_order("d.example", records, ())) for _ in range(100)}
    assert orders == {("a", "b", "c"), ("b", "a", "c")}
    assert mx_order("D.example", [], ()) == ["d.example"]
    assert mx_order("d.example", [(0, "."), (10, "a")], ()) == ["a"], "C-14: beside others it is nothing"
    assert mx_order("d.example", [(10, "a"), (20, "us"), (20, "b"), (30, "c")], {"us"}) == ["a"]


@pytest.mark.parametrize(
    ("records", "cause", "code", "enhanced"),
    [([(0, ".")], Cause.NULL_MX, 556, "5.1.10"), ([(10, "us"), (20, "b")], Cause.MAIL_LOOP, 554, "5.4.6")],
)
def test_domains_that_nothing_can_be_sent_to(
    records: list[tuple[int, str]], cause: Cause, code: int, enhanced: str
) -> None:
    """C-14, C-17."""
    with pytest.raises(SessionFailed) as stopped:
        mx_order("d.example", records, {"us"})
    reply = stopped.value.reply
    assert stopped.value.cause is cause and reply is not None and (reply.code, reply.enhanced) == (code, enhanced)


def test_a_zone_file_answers_as_dns_would(folder: Path) -> None:
    """C-13, C-15, C-16: records, aliases, none of this kind, no such name, and aliases in a circle."""
    dns = zone(folder)

    def ask(domain: str) -> object:
        try:
            return sorted(asyncio.run(mail_exchangers(domain, 5.0, dns))[0])
        except SessionFailed as failure:
            return failure.cause

    both = [(10, "a.mx.example"), (20, "b.mx.example")]
    assert ask("passenger.example") == ask("ALIAS.example") == both
    assert ask("crew.example") == [] and ask("closed.example") == [(0, ".")]
    assert ask("no-such.example") is Cause.DOMAIN_NOT_FOUND
    assert ask("round.example") is Cause.NAME_LOOKUP_FAILED
    assert asyncio.run(resolve_host("a.mx.example", 25, 5.0, dns)) == ["127.0.0.1"]
    with pytest.raises(SessionFailed) as stopped:
        asyncio.run(resolve_host("missing.mx.example", 25, 5.0, dns))
    assert stopped.value.cause is Cause.NAME_NOT_FOUND


def mx_site(folder: Path, port: int, **keys: str) -> Path:
    """A configuration whose connector goes to mail exchangers, found in a zone file."""
    zone(folder)
    config = write_site(folder, port, tls=keys.get("tls", "off"))
    text = config.read_text().replace(f'hosts = ["localhost:{port}"]', f"mx = true\nport = {port}")
    config.write_text(
        text.replace('data = "queue"', 'data = "queue"\ndns = "zone:trial.zone"').replace('credential = "beacon"\n', "")
    )
    return config


async def run(folder: Path, config: Path, *recipients: str, until: int) -> dict[str, tuple[State, str]]:
    """Hand a message in and wait until `until` recipients have a state that is not queued; what became of each."""
    service = await Service.start(load_configuration(config), StoppedClock())
    endpoint = service.endpoints[0]
    await converse(endpoint.port, talk(letter(*recipients)))
    with open_store(store_of(folder / "queue")).reader() as reader:
        await happens(lambda: sum(row.recipient.state is not State.QUEUED for row in rows(reader)) >= until)
        record: Record = reader.record(rows(reader)[0].message.id)
    await service.stop()
    return {recipient.address: (recipient.state, recipient.reply) for recipient in record.recipients}


def rows(reader: Reader) -> list:  # type: ignore[type-arg]
    result = [row for row in reader.queue(tuple(State)) if row.message.reverse_path]
    return sorted(result, key=lambda row: row.message.id)


async def test_each_domain_has_its_own_way(folder: Path) -> None:
    """C-12 to C-17: two domains relayed by their exchangers, the others end as their records say."""
    caught: list[Caught] = []

    here = StandIn(StandInPlan(name="a.mx.example", folder=folder / "1", tls="off"), caught.append)
    config = mx_site(folder, await here.start("127.0.0.1", 0))
    result = await run(
        folder, config, "a@passenger.example", "b@crew.example", "c@closed.example", "d@ours.example",
        "e@no-such.example", "f@nowhere.example", until=6,
    )  # fmt: skip
    states = {address[0]: state for address, (state, _) in result.items()}
    assert states == {
        "a": State.RELAYED, "b": State.RELAYED, "c": State.FAILED, "d": State.FAILED, "e": State.FAILED,
        "f": State.DELAYED,
    }  # fmt: skip
    assert "5.1.10" in result["c@closed.example"][1] and "5.4.6" in result["d@ours.example"][1]
    assert "missing.mx.example" in result["f@nowhere.example"][1], "C-13: never the domain's own address then"
    with open_store(store_of(folder / "queue")).reader() as reader:
        record = reader.record(rows(reader)[0].message.id)
        assert [state.last_bad_text for state in reader.connectors()] == ["missing.mx.example: no such name in DNS"]
    sides = {attempt.cause: attempt.side for attempt in record.attempts if attempt.cause}
    assert sides == {
        "domain takes no mail": "beyond", "mail loops to itself": "here", "domain not found": "here",
        "name not found": "beyond",
    }  # fmt: skip
    ours = [message for message in caught if message.reverse_path]
    assert sorted(our.recipients for our in ours) == [("a@passenger.example",), ("b@crew.example",)]
    await here.stop()


async def test_equal_exchangers_and_each_address_of_them(folder: Path) -> None:
    """C-12: the better one alone takes mail while it can, equals in any order, a host's second address after its first."""
    domains = [f"d{number}.example" for number in range(20)]
    records = [f"{domain}. IN MX 10 a.mx.example.\n{domain}. IN MX 10 b.mx.example." for domain in domains]
    backup = [f"{domain}. IN MX 20 c.mx.example." for domain in domains]
    hosts = ["a.mx.example. IN A 127.0.0.2", "a.mx.example. IN A 127.0.0.3"]
    hosts += ["b.mx.example. IN A 127.0.0.4", "b.mx.example. IN A 127.0.0.5", "c.mx.example. IN A 127.0.0.6"]
    caught: list[Caught] = []

    peers, port = [], free_port()
    for number in range(2, 7):
        busy = [Rule(stage=Stage.GREET, reply=Reply(554, "5.3.2", "not here"))] if number in (2, 4) else []
        plan = StandInPlan(name=f"hop{number}", folder=folder / str(number), tls="off", rules=busy)
        peers.append(StandIn(plan, caught.append))
        await peers[-1].start(f"127.0.0.{number}", port)
    config = mx_site(folder, port)
    (folder / "trial.zone").write_text("$TTL 60\n" + "\n".join([*records, *backup, *hosts]) + "\n")
    result = await run(folder, config, *(f"a@{domain}" for domain in domains), until=20)
    assert {state for state, _ in result.values()} == {State.RELAYED}
    with open_store(store_of(folder / "queue")).reader() as reader:
        attempts = reader.record(rows(reader)[0].message.id).attempts
    assert {attempt.address for attempt in attempts} == {"127.0.0.3", "127.0.0.5"}
    for peer in peers:
        await peer.stop()


async def test_an_exchanger_that_is_ourselves_by_its_address(folder: Path) -> None:
    """C-17: nothing is sent to it, nor to what comes behind it; whatever name it has."""

    config = mx_site(folder, 0)
    text = config.read_text()
    port = int(re.search(r'bind = \["127.0.0.1:(\d+)"', text)[1])  # type: ignore[index]
    for number, bind in enumerate(["127.0.0.1", "0.0.0.0"]):
        changed = re.sub(r"\nport = \d+", f"\nport = {port}", text).replace('"127.0.0.1:', f'"{bind}:')
        config.write_text(changed.replace('data = "queue"', f'data = "{number}/queue"'))
        result = await run(folder / str(number), config, "a@passenger.example", until=1)
        assert result["a@passenger.example"][0] is State.FAILED and "5.4.6" in result["a@passenger.example"][1]


async def test_dns_that_does_not_answer_delays(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """C-15: neither a failure nor the domain itself; asked again later, not once a message."""
    asked = []

    async def silent(domain: str, seconds: float, dns: str) -> list[tuple[int, str]]:
        asked.append(domain)
        raise SessionFailed(Stage.RESOLVE, Cause.NAME_LOOKUP_FAILED, "no answer")

    monkeypatch.setattr("copper_kite.relay.network.mail_exchangers", silent)

    config = mx_site(folder, free_port())
    result = await run(folder, config, *(f"r{n}@crew.example" for n in range(3)), until=3)
    assert {state for state, _ in result.values()} == {State.DELAYED} and asked == ["crew.example"]


@pytest.mark.data_folder
async def test_an_exchanger_of_another_name_is_an_impostor(folder: Path) -> None:
    """T-11: the name that the MX record gives is the one that the certificate must have."""
    right = make_authority(folder / "tls", ["a.mx.example"])
    wrong = make_authority(folder / "other", ["evil.mx.example"])
    (folder / "ca.pem").write_text(right.authority.read_text() + wrong.authority.read_text())
    caught: list[Caught] = []

    for files, state in ((wrong, State.DELAYED), (right, State.RELAYED)):
        context = server_context(str(files.certificate), str(files.key))
        plan = StandInPlan(name="a.mx.example", folder=folder / "1", tls="starttls", context=context)
        here = StandIn(plan, caught.append)
        config = mx_site(folder, await here.start("127.0.0.1", 0), tls="starttls")
        (folder / "trial.zone").write_text(ZONE.replace("passenger.example.      IN MX 20 b.mx.example.", ""))
        records_module._zone.cache_clear()
        config.write_text(config.read_text().replace('data = "queue"', f'data = "{state.value}/queue"'))
        result = await run(folder / state.value, config, "a@passenger.example", until=1)
        assert result["a@passenger.example"][0] is state, result
        await here.stop()
    assert len(caught) == 1 and caught[0].secure


async def test_an_address_in_place_of_a_domain_is_connected_to() -> None:
    """RFC 5321 4.1.3: DNS is not asked for it; our own leads nowhere."""

    async def live(domain: str, listening: list[Endpoint]) -> list[str]:
        plan = Plan(host="", port=25, name="q.example", dns="zone:/nonexistent")
        hops = MxHops(domain, plan, Retry([60.0]), lambda: 0.0, [], listening)
        return await hops._look_up()

    assert await live("[192.0.2.1]", []) == ["192.0.2.1"]
    assert await live("[ipv6:2001:db8::1]", []) == ["2001:db8::1"]
    with pytest.raises(SessionFailed) as stopped:
        await live("[127.0.0.1]", [Endpoint("127.0.0.1", 25)])
    assert stopped.value.cause is Cause.MAIL_LOOP and "[127.0.0.1]" in stopped.value.text
