"""DANE and MTA-STS: which mail goes, how, and which waits; by a real DNS server whose zones are signed."""

from __future__ import annotations

import asyncio
import gzip
import hashlib
import json
import time
from collections.abc import AsyncIterator, Iterator
from contextlib import AsyncExitStack, asynccontextmanager
from dataclasses import dataclass, replace
from email import message_from_bytes
from pathlib import Path
from typing import Any

import pytest
from cryptography import x509
from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat

from copper_kite.monitoring.due_tls_reports import DueTlsReports
from copper_kite.net import StsFailed, StsPolicies, parse_policy
from copper_kite.net.authority import CertificateFiles, make_authority
from copper_kite.relay.service import Service
from copper_kite.report import collect_tls, report_addresses, tls_message, tls_report
from copper_kite.routing import make_plan
from copper_kite.session import Letter, Survey, exchangers, run_survey
from copper_kite.session.policies_seen import policies_seen
from copper_kite.session.standin import Caught, StandIn, StandInPlan
from copper_kite.session.web_stand_in import WebReply, WebStandIn, policy_responder
from copper_kite.settings import Loaded, load_configuration, server_context
from copper_kite.smtp import Envelope
from copper_kite.store import JournalEntry, Record, WriteEntry, open_store
from copper_kite.words import Cause, Event, State
from tests.configuration import connector, site_text
from tests.dns_server import DnsServer, dns_server
from tests.looping import happens
from tests.relay.test_relay import letter, talk
from tests.support import StoppedClock, converse, free_port, kite

PORT = free_port()  # of all mail exchangers: TLSA records name it


def digest(certificate: Path, selector: int, algorithm: str) -> str:
    found = x509.load_pem_x509_certificate(certificate.read_bytes())
    whole = found.public_bytes(Encoding.DER)
    key = found.public_key().public_bytes(Encoding.DER, PublicFormat.SubjectPublicKeyInfo)
    octets = key if selector else whole
    return octets.hex() if algorithm == "" else hashlib.new(algorithm, octets).hexdigest()


@dataclass
class Ground:
    """The DNS server, and where certificates are: `good` for mx.NAME.example and policy hosts, `bad` expired and for
    another name."""

    dns: DnsServer
    good: CertificateFiles
    bad: CertificateFiles


# domain → the TLSA records of its only host, of a certificate that is shown
DOMAINS = ("match", "whole", "anchor", "exact", "mismatch", "unusable", "forged", "notlsa", "insecure", "clear", "second",
           "enforce", "testing", "strange", "strangetest", "down", "twice", "none", "testclear", "both")  # fmt: skip


def zone(good: CertificateFiles, bad: CertificateFiles) -> str:
    key, whole = digest(bad.certificate, 1, "sha256"), digest(bad.certificate, 0, "sha512")
    anchor, wrong = digest(good.authority, 0, "sha256"), "00" * 32
    tlsa = {
        "match": f"3 1 1 {key}", "whole": f"3 0 2 {whole}", "exact": f"3 1 0 {digest(bad.certificate, 1, '')}",
        "anchor": f"2 0 1 {anchor}", "mismatch": f"3 1 1 {wrong}", "unusable": f"1 1 1 {key}", "forged": f"3 1 1 {'ab' * 32}",
        "clear": f"3 1 1 {key}", "second": f"3 1 1 {wrong}", "both": f"3 1 1 {wrong}",
    }  # fmt: skip
    lines = []
    for domain in DOMAINS:
        lines += [f"{domain} IN MX 10 mx.{domain}", f"mx.{domain} IN A 127.0.0.1", f"mta-sts.{domain} IN A 127.0.0.1"]
        if domain in tlsa:
            lines.append(f"_{PORT}._tcp.mx.{domain} IN TLSA {tlsa[domain]}")
        if domain in ("enforce", "testing", "strange", "strangetest", "down", "none", "testclear", "both"):
            lines.append(f'_mta-sts.{domain} IN TXT "v=STSv1; id=1;"')
    lines += [
        "second IN MX 20 mx.match",
        '_mta-sts.twice IN TXT "v=STSv1; id=1"',
        '_mta-sts.twice IN TXT "v=STSv1; id=2"',
    ]
    return "\n".join(lines) + "\n"


def policy(mode: str, host: str, max_age: int = 86400) -> str:
    return f"version: STSv1\r\nmode: {mode}\r\nmx: {host}\r\nmax_age: {max_age}\r\n"


POLICIES = {
    "enforce.example": policy("enforce", "mx.enforce.example"),
    "testing.example": policy("testing", "*.testing.example"),
    "strange.example": policy("enforce", "*.elsewhere.example"),
    "strangetest.example": policy("testing", "mail.elsewhere.example"),
    "testclear.example": policy("testing", "mx.testclear.example"),
    "twice.example": policy("enforce", "nothing.example"),
    "none.example": "version: STSv1\nmode: none\nmax_age: 86400\n",
    "both.example": policy("enforce", "mx.both.example"),
}


@pytest.fixture(scope="module")
def ground(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Ground]:
    folder = tmp_path_factory.mktemp("policies")
    names = [f"{host}.{domain}.example" for domain in DOMAINS for host in ("mx", "mta-sts")]
    good, bad = make_authority(folder / "good", names), make_authority(folder / "bad", ["other.example"], "expired")
    good.certificate.write_bytes(good.certificate.read_bytes() + good.authority.read_bytes())  # as DANE-TA wants
    # The signature of one TLSA record does not hold: the record was changed after it was made.
    with dns_server(folder / "dns", zone(good, bad), "", ("ab" * 32, "cd" * 32)) as running:
        yield Ground(running, good, bad)


@dataclass
class Mail:
    """A server that sends straight to exchangers, and what they took."""

    loaded: Loaded
    service: Service
    caught: list[Caught]
    web: WebStandIn
    clock: StoppedClock

    async def send(self, domain: str, local: str = "x") -> Record:
        """Send to a domain and wait for the end of the first attempt."""
        port = self.service.endpoints[0].port
        await converse(port, talk(letter(f"{local}@{domain}.example")))
        with open_store(self.loaded.data).reader() as reader:

            def rows() -> list[Any]:
                return [
                    row for row in reader.queue(tuple(State)) if row.recipient.address == f"{local}@{domain}.example"
                ]

            await happens(lambda: any(row.recipient.state is not State.QUEUED for row in rows()))
            return reader.record(rows()[-1].message.id)


@asynccontextmanager
async def mail(
    folder: Path, ground: Ground, *, shows: str = "bad", tls: str = "starttls", respond: Any = None, **keys: Any
) -> AsyncIterator[Mail]:
    files = ground.good if shows == "good" else ground.bad
    caught: list[Caught] = []
    context = None if tls == "off" else server_context(str(files.certificate), str(files.key))
    stand_in = StandIn(
        StandInPlan(name="mx", folder=folder / "caught", tls=tls, context=context, logins={}), caught.append
    )
    web = WebStandIn(
        respond or policy_responder(POLICIES), server_context(str(ground.good.certificate), str(ground.good.key))
    )
    async with AsyncExitStack() as stack:
        await stand_in.start("127.0.0.1", PORT)
        stack.push_async_callback(stand_in.stop)
        port = await web.start("127.0.0.1", 0)
        stack.push_async_callback(web.stop)
        config = folder / "kite.toml"
        config.write_text(site_text(
            connector("direct", mx=True, port=PORT, policy_port=port, trust=str(ground.good.authority),
                      **{"tls": "opportunistic", **keys}),
            bind=f"127.0.0.1:{free_port()}", server={"dns": ground.dns.resolver},
        ))  # fmt: skip
        clock = StoppedClock(time.time() - 60.0)
        service = await Service.start(load_configuration(config), clock)
        stack.push_async_callback(service.stop)
        yield Mail(load_configuration(config), service, caught, web, clock)


# domain, what the host shows, how it offers TLS → relayed or why not, whether TLS was on, and how the session is recorded
SCENARIOS = [
    ("match", "bad", "starttls", None, True, "dane", "dane"),  # an expired certificate for another name
    ("whole", "bad", "starttls", None, True, "dane", "dane"),
    ("exact", "bad", "starttls", None, True, "dane", "dane"),
    ("anchor", "good", "starttls", None, True, "dane", "dane"),
    ("anchor", "bad", "starttls", Cause.DANE_MISMATCH, None, "", ""),
    ("mismatch", "bad", "starttls", Cause.DANE_MISMATCH, None, "", ""),
    ("unusable", "bad", "starttls", None, True, "unverified", "dane"),  # TLS is a must, and nobody is verified
    ("unusable", "bad", "off", Cause.TLS_NOT_OFFERED, None, "", ""),
    ("forged", "bad", "starttls", Cause.DANE_UNKNOWN, None, "", ""),
    ("notlsa", "bad", "starttls", None, True, "unverified", ""),
    ("notlsa", "bad", "off", None, False, "unverified", ""),
    ("clear", "bad", "off", Cause.TLS_NOT_OFFERED, None, "", ""),
    ("enforce", "good", "starttls", None, True, "ca", "sts"),
    ("enforce", "bad", "starttls", Cause.CERTIFICATE_UNTRUSTED, None, "", ""),
    ("enforce", "good", "off", Cause.TLS_NOT_OFFERED, None, "", ""),
    ("testing", "good", "starttls", None, True, "ca", "sts, testing"),
    ("testing", "bad", "starttls", None, True, "unverified", "sts, testing: failed"),
    ("testclear", "bad", "off", None, False, "unverified", "sts, testing: failed"),
    ("strange", "good", "starttls", Cause.STS_NO_HOST, None, "", ""),
    ("strangetest", "good", "starttls", None, True, "unverified", "sts, testing: failed"),
    ("down", "bad", "starttls", None, True, "unverified", ""),  # no policy can be had
    ("twice", "bad", "starttls", None, True, "unverified", ""),
    ("none", "bad", "starttls", None, True, "unverified", ""),
    ("both", "good", "starttls", Cause.DANE_MISMATCH, None, "", ""),  # MTA-STS would pass
]


@pytest.mark.parametrize(("domain", "shows", "tls", "cause", "secure", "trust", "policy_name"), SCENARIOS)
async def test_what_a_policy_demands_decides(
    folder: Path,
    ground: Ground,
    domain: str,
    shows: str,
    tls: str,
    cause: Cause | None,
    secure: bool | None,
    trust: str,
    policy_name: str,
) -> None:
    """Rows T-11, T-16 to T-20."""
    async with mail(folder, ground, shows=shows, tls=tls) as here:
        record = await here.send(domain)
        [recipient], attempt = record.recipients, record.attempts[-1]
        if cause is not None:
            assert (recipient.state, attempt.cause, here.caught) == (State.DELAYED, cause.value, [])
            return
        assert recipient.state is State.RELAYED, attempt.text
        assert here.caught[0].secure is secure
        session = attempt.facts.session
        kept = "ca" if session.trust == str(ground.good.authority) else session.trust
        assert (kept, session.policy) == (trust, policy_name)


async def test_the_next_host_is_tried_where_one_may_not_be_used(folder: Path, ground: Ground) -> None:
    """Row T-16."""
    async with mail(folder, ground) as here:
        record = await here.send("second")
        assert record.recipients[0].state is State.RELAYED
        assert record.attempts[-1].next_hop.startswith("mx.match.example")
        assert [one.cause for one in record.attempts[-1].facts.session.tried] == [Cause.DANE_MISMATCH.value]


async def test_policies_can_be_left_aside(folder: Path, ground: Ground) -> None:
    async with mail(folder, ground, policy="off") as here:
        assert (await here.send("mismatch")).recipients[0].state is State.RELAYED
        assert (await here.send("strange")).recipients[0].state is State.RELAYED
        assert here.web.asked == []


async def test_a_resolver_that_does_not_validate_is_not_believed(folder: Path, ground: Ground) -> None:
    """Row T-17: without DNSSEC a TLSA record is as good as none."""
    other = Ground(DnsServer(ground.dns.authority, ground.dns.authority), ground.good, ground.bad)
    async with mail(folder, other) as here:
        assert (await here.send("mismatch")).recipients[0].state is State.RELAYED


async def test_a_policy_counts_while_its_host_is_down_and_over_a_restart(folder: Path, ground: Ground) -> None:
    """Row T-20: the kept one, until its age is over."""
    texts = {"down.example": policy("enforce", "nobody.down.example", 86400)}
    async with mail(folder, ground, respond=policy_responder(texts)) as here:
        assert (await here.send("down")).attempts[-1].cause == Cause.STS_NO_HOST.value
    kept = json.loads((here.loaded.data / "sts-direct.json").read_text())
    assert kept["down.example"]["mode"] == "enforce"
    async with mail(folder, ground, respond=lambda request: WebReply(503)) as here:
        assert (await here.send("down", "y")).attempts[-1].cause == Cause.STS_NO_HOST.value
    kept["down.example"]["fetched"] -= 2 * 86400
    (here.loaded.data / "sts-direct.json").write_text(json.dumps(kept))
    async with mail(folder, ground, respond=lambda request: WebReply(503)) as here:
        assert (await here.send("down", "z")).recipients[0].state is State.RELAYED


@pytest.mark.parametrize(
    "reply",
    [
        WebReply(301, fields={"Location": "https://mta-sts.enforce.example/other"}),
        WebReply(404),
        WebReply(None),
        WebReply(body=b"x" * 70_000),
        WebReply(body=b"version: STSv1\nmode: enforce\nmax_age: 1\n"),
        WebReply(body=b"version: STSv2\n"),
    ],
)  # fmt: skip
async def test_a_policy_that_cannot_be_had_is_none(folder: Path, ground: Ground, reply: WebReply) -> None:
    """Row T-20: no redirection, no other status, bounded; then as without a policy."""
    async with mail(folder, ground, respond=lambda request: reply) as here:
        record = await here.send("enforce")
        assert (record.recipients[0].state, len(here.web.asked)) == (State.RELAYED, 1)


@pytest.mark.parametrize(
    ("text", "problem"),
    [
        ("", "no version"),
        ("version: STSv1\nmode: often\nmax_age: 5\nmx: a", "the mode 'often'"),
        ("version: STSv1\nmode: enforce\nmax_age: long\nmx: a", "no max_age"),
        ("version: STSv1\nmode: testing\nmax_age: 5\n", "names no host"),
    ],
)
def test_policies_that_are_none(text: str, problem: str) -> None:
    with pytest.raises(StsFailed, match=problem):
        parse_policy(text)


def test_a_wildcard_stands_for_one_label() -> None:
    """Row T-19."""
    found = parse_policy("version: STSv1\nmode: enforce\nmax_age: 5\nmx: *.x.example\nmx: Mail.Y.example\n")
    assert [found.allows(host) for host in ("a.x.example", "a.b.x.example", "x.example", "MAIL.y.example", "y.example")] == [
        True, False, False, True, False,
    ]  # fmt: skip


async def test_the_test_of_a_connector_shows_what_policies_demand(folder: Path, ground: Ground) -> None:
    async with mail(folder, ground) as here:

        async def said(domain: str) -> tuple[int, str]:
            words = ("connector", "test", "direct", "--to", f"x@{domain}.example")
            done = await asyncio.to_thread(kite, *words, config=here.loaded.path)
            return done.returncode, " ".join(done.stdout.decode().split())

        status, shown = await said("match")
        assert status == 0
        assert "policy DANE, TLSA 3 1 1" in shown
        status, shown = await said("mismatch")
        assert status != 0
        assert "publishes in DNS which certificate it has (DANE), and shows another" in shown
        status, shown = await said("strange")
        assert status != 0
        assert "the MTA-STS policy of strange.example does not allow mx.strange.example" in shown


async def survey(here: Mail, domain: str) -> Survey:
    """Meet all exchangers of a domain as `kite connector test` does."""
    first, recipient = make_plan(here.loaded, here.loaded.settings.connector[0]), f"x@{domain}.example"
    policies = StsPolicies(None, time.time, first.dns, first.trust, first.policy_port)
    facts = {"connector": "direct", "mx": True, "recipient": recipient}
    hosts = await exchangers(first, recipient, {here.loaded.server_name}, facts, policies)
    return await run_survey(hosts, facts, Letter(Envelope("", (recipient,), 0, False, False), None))


@pytest.mark.parametrize(
    ("domain", "ways"),
    [
        ("match", {"mx.match.example": None}),
        ("mismatch", {"mx.mismatch.example": Cause.DANE_MISMATCH}),
        ("forged", {"mx.forged.example": Cause.DANE_UNKNOWN}),
        ("enforce", {"mx.enforce.example": Cause.CERTIFICATE_UNTRUSTED}),
        ("strange", {"mx.strange.example": Cause.STS_NO_HOST}),
        ("second", {"mx.second.example": Cause.DANE_MISMATCH, "mx.match.example": None}),
        ("nowhere", {"nowhere.example": Cause.DOMAIN_NOT_FOUND}),
    ],
)
async def test_every_exchanger_is_met_as_its_policies_demand(
    folder: Path, ground: Ground, domain: str, ways: dict[str, Cause | None]
) -> None:
    async with mail(folder, ground) as here:
        met = await survey(here, domain)
    assert {way.plan.host: way.failure and way.failure.cause for way in met.ways} == ways
    assert met.passed is not any(ways.values())
    if len(ways) > 1:
        assert met.verdict.meaning.startswith(f"Mail goes by mx.match.example:{PORT}. ")


@pytest.mark.parametrize(
    ("host", "recipient", "shown", "said"),
    [
        ("match", "x@notlsa.example", True, {"DANE": "its certificate fits"}),
        ("mismatch", "x@notlsa.example", True, {"DANE": "senders that go by DANE refuse it"}),
        ("mismatch", "x@notlsa.example", False, {"DANE": "senders that go by DANE refuse a session without"}),
        ("unusable", "x@notlsa.example", True, {"DANE": "nobody is verified"}),
        ("forged", "x@notlsa.example", True, {"DANE": "senders that go by DANE do not use this host"}),
        ("notlsa", "x@notlsa.example", True, {}),
        ("notlsa", "x@enforce.example", True, {"MTA-STS of enforce.example": "senders refuse it"}),
        ("x.testing", "x@testing.example", True, {"MTA-STS of testing.example": "testing, allows this host"}),
        ("notlsa", "x@down.example", True, {"MTA-STS of down.example": "404"}),
    ],
)
async def test_policies_seen_from_outside(
    folder: Path, ground: Ground, host: str, recipient: str, shown: bool, said: dict[str, str]
) -> None:
    chain = [x509.load_pem_x509_certificate(ground.bad.certificate.read_bytes()).public_bytes(Encoding.DER)]
    async with mail(folder, ground) as here:
        name = f"{host}.example" if "." in host else f"mx.{host}.example"
        plan = replace(make_plan(here.loaded, here.loaded.settings.connector[0]), host=name, tls="starttls")
        seen = await policies_seen(plan, chain if shown else [], [recipient])
        assert await policies_seen(replace(plan, tls="off"), chain, [recipient]) == {}
    assert seen.keys() == said.keys()
    for name, words in said.items():
        assert words in seen[name]


async def test_a_probe_says_who_would_refuse(folder: Path, ground: Ground) -> None:
    async with mail(folder, ground) as here:

        async def policies(domain: str, recipient: str) -> dict[str, str]:
            words = (
                "probe",
                f"mx.{domain}.example:{PORT}",
                "--tls",
                "starttls",
                "--trust",
                ground.bad.authority,
                "--to",
                recipient,
                "--json",
            )
            done = await asyncio.to_thread(kite, *words, config=here.loaded.path)
            return dict(json.loads(done.stdout)["policies"])

        assert (await policies("match", "x@notlsa.example"))["DANE"].endswith("its certificate fits")
        assert (await policies("mismatch", "x@notlsa.example"))["DANE"].endswith("senders that go by DANE refuse it")
        assert "senders that go by DANE do not use this host" in (await policies("forged", "x@notlsa.example"))["DANE"]
        assert await policies("notlsa", "x@notlsa.example") == {}


async def test_how_tls_went_is_counted_and_reported(folder: Path, ground: Ground) -> None:
    """Row T-21: by domain and policy; the report has what RFC 8460 4.4 asks for, and is a message of its kind."""
    async with mail(folder, ground) as here:
        for domain in ("match", "match", "mismatch", "testing", "notlsa", "strange"):
            await here.send(domain, f"x{time.time_ns()}")
        shown = await asyncio.to_thread(
            kite, "report", "--tls", "--since", "2020-01-01", "--json", config=here.loaded.path
        )
        rows = {(row["domain"], row["policy"]): row for row in json.loads(shown.stdout)}
    assert rows["mismatch.example", "tlsa"]["failures"][0]["result"] == "validation-failure"
    assert rows["testing.example", "sts"]["failed"] == 1
    assert rows["notlsa.example", "no-policy-found"]["sessions"] == 1
    assert rows["strange.example", "sts"]["failed"] == 1
    assert rows["match.example", "tlsa"]["sessions"] >= 1

    history = open_store(here.loaded.data).history()
    domains = collect_tls(history.between(here.clock.now() - 3600.0, here.clock.now() + 3600.0), {"direct"})
    history.close()
    report = tls_report(
        "mismatch.example",
        domains["mismatch.example"],
        0.0,
        86400.0,
        organization="Tern",
        contact="d@crew.example",
        server="q",
    )
    assert report.values["date-range"] == {
        "start-datetime": "1970-01-01T00:00:00Z",
        "end-datetime": "1970-01-01T23:59:59Z",
    }
    [entry] = report.values["policies"]
    assert entry["policy"]["policy-type"] == "tlsa"
    assert entry["summary"] == {"total-successful-session-count": 0, "total-failure-session-count": 1}
    assert entry["failure-details"][0]["receiving-mx-hostname"] == "mx.mismatch.example"
    message = message_from_bytes(tls_message(report, sender="p@t.example", to="tls@x.example", server="q", now=1.0))
    assert (message.get_content_type(), message.get_param("report-type")) == ("multipart/report", "tlsrpt")
    [_, attached] = message.get_payload()
    assert json.loads(gzip.decompress(attached.get_payload(decode=True))) == report.values
    assert attached.get_filename() == "q!mismatch.example!0!86399!1.json.gz"


def test_where_reports_on_tls_go() -> None:
    """Row T-21: two records, none."""
    one = "v=TLSRPTv1; rua=mailto:tls@x.example,https://x.example/tls,ftp://x.example"
    assert report_addresses([one, "other"]) == (["tls@x.example"], ["https://x.example/tls"])
    assert report_addresses([one, one]) == report_addresses([]) == report_addresses(["v=TLSRPTv1; rua"]) == ([], [])


async def test_reports_on_tls_are_sent_once_a_day(
    folder: Path, ground: Ground, monkeypatch: pytest.MonkeyPatch
) -> None:
    asked: list[str] = []
    async with mail(folder, ground) as here:
        await here.send("match")
        now = here.clock.now()
    config = here.loaded.path
    config.write_text(config.read_text() + "[tls_reports]\nsend = true\n")
    loaded = load_configuration(config)
    text = "v=TLSRPTv1; rua=mailto:tls@match.example,https://x.example/tls"
    monkeypatch.setattr(DueTlsReports, "_records", lambda self, domain: [text])
    monkeypatch.setattr(
        "copper_kite.monitoring.due_tls_reports.send_tls_report",
        lambda report, url: asked.append(url) or "answered 200",
    )
    due, noon = DueTlsReports(loaded), (now // 86400 + 1.5) * 86400
    assert due.make_if_due(now) is None
    made = due.make_if_due(noon)
    assert made is not None
    assert (made["domain"], list(made["messages"]), asked) == (
        "match.example",
        ["tls@match.example"],
        ["https://x.example/tls"],
    )
    assert due.make_if_due(noon) is None
    facts = {"domain": "match.example", "period": made["period"], "to": "tls@match.example"}
    [problem] = open_store(loaded.data).write(
        [[WriteEntry(JournalEntry(at=noon, event=Event.TLS_REPORTED, facts=facts))]]
    )
    assert problem is None
    assert DueTlsReports(loaded).make_if_due(noon) is None, "after a restart, the journal knows"
