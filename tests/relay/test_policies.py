"""DANE and MTA-STS: which mail goes, how, and which waits; by a real DNS server whose zones are signed."""

from __future__ import annotations

import asyncio
import gzip
import json
import time
from email import message_from_bytes
from pathlib import Path

import pytest

from copper_kite.monitoring.due_tls_reports import DueTlsReports
from copper_kite.net import StsFailed, parse_policy
from copper_kite.report import collect_tls, report_addresses, tls_message, tls_report
from copper_kite.session.web_stand_in import WebReply, policy_responder
from copper_kite.settings import load_configuration
from copper_kite.store import JournalEntry, WriteEntry, open_store
from copper_kite.words import Cause, Event, State
from tests.dns_server import DnsServer
from tests.relay.policy_ground import Ground, mail, policy
from tests.support import kite

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
        assert [item.cause for item in record.attempts[-1].facts.session.tried] == [Cause.DANE_MISMATCH.value]


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
    result = parse_policy("version: STSv1\nmode: enforce\nmax_age: 5\nmx: *.x.example\nmx: Mail.Y.example\n")
    assert [result.allows(host) for host in ("a.x.example", "a.b.x.example", "x.example", "MAIL.y.example", "y.example")] == [
        True, False, False, True, False,
    ]  # fmt: skip


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

    history = open_store(here.loaded.store).history()
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
    item = "v=TLSRPTv1; rua=mailto:tls@x.example,https://x.example/tls,ftp://x.example"
    assert report_addresses([item, "other"]) == (["tls@x.example"], ["https://x.example/tls"])
    assert report_addresses([item, item]) == report_addresses([]) == report_addresses(["v=TLSRPTv1; rua"]) == ([], [])


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
    [problem] = open_store(loaded.store).write(
        [[WriteEntry(JournalEntry(at=noon, event=Event.TLS_REPORTED, facts=facts))]]
    )
    assert problem is None
    assert DueTlsReports(loaded).make_if_due(noon) is None, "after a restart, the journal knows"
