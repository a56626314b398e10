"""`kite domain` against a real DNS server with signed zones: each kind of record good, and broken."""

from __future__ import annotations

import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from copper_kite.mail import key_record, make_signing_key, read_signing_key
from copper_kite.net import Lookups
from copper_kite.posture import (
    DomainReport,
    Question,
    TxtRecord,
    compare_published,
    examine_domains,
    records_to_publish,
    sending_domains,
)
from copper_kite.settings import Loaded, load_configuration
from tests.configuration import connector, site_text, table
from tests.dns_server import DnsServer, dns_server

OURS = ["192.0.2.25"]
KEYS = {"rsa": "r1", "ed25519": "e1"}

ZONE = """
quay1.tern A 192.0.2.25
out.tern A 192.0.2.26
; all is well
good MX 10 mx1.good
good TXT "v=spf1 ip4:192.0.2.25 include:spf.beacon.example -all"
mx1.good A 192.0.2.7
_25._tcp.mx1.good TLSA 3 1 1 0000000000000000000000000000000000000000000000000000000000000001
_dmarc.good TXT "v=DMARC1; p=reject; rua=mailto:dmarc@good.example,mailto:x@reports.example"
good.example._report._dmarc.reports TXT "v=DMARC1"
_mta-sts.good TXT "v=STSv1; id=1"
_smtp._tls.good TXT "v=TLSRPTv1; rua=mailto:tls@good.example"
spf.beacon TXT "v=spf1 ip4:203.0.113.0/24 ~all"
; MX
nullmx MX 0 .
aliasmx MX 10 alias.aliasmx
alias.aliasmx CNAME mx1.good
lostmx MX 10 nowhere.lostmx
addressmx MX 10 192.0.2.9.
nomx A 192.0.2.9
nothing TXT "hello"
oldtlsa MX 10 mx.oldtlsa
mx.oldtlsa A 192.0.2.7
_25._tcp.mx.oldtlsa TLSA 1 1 1 0000000000000000000000000000000000000000000000000000000000000001
; SPF
twospf TXT "v=spf1 -all"
twospf TXT "v=spf1 ~all"
everybody TXT "v=spf1 +all"
badspf TXT "v=spf1 ip4:192.0.2.25 inclde:spf.beacon.example -all"
badip TXT "v=spf1 ip4:192.0.2.300 -all"
noinclude TXT "v=spf1 include:nothing.example -all"
ptrspf TXT "v=spf1 ptr ip4:192.0.2.25 include:spf.beacon.example -all"
openspf TXT "v=spf1 ip4:192.0.2.25 include:spf.beacon.example"
loopspf TXT "v=spf1 include:loopspf.example -all"
manyspf TXT "v=spf1 a:a.x.example a:b.x.example a:c.x.example a:d.x.example a:e.x.example a:f.x.example a:g.x.example" " a:h.x.example a:i.x.example a:j.x.example a:k.x.example ip4:192.0.2.25 -all"
voidspf TXT "v=spf1 a:v1.x.example a:v2.x.example a:v3.x.example -all"
lacking TXT "v=spf1 ip4:198.51.100.0/24 -all"
redirecting TXT "v=spf1 redirect=good.example"
*.x A 198.51.100.1
v1.x TXT "nothing"
v2.x TXT "nothing"
v3.x TXT "nothing"
; DMARC
nodmarc MX 10 mx1.good
nonedmarc TXT "x"
_dmarc.nonedmarc TXT "v=DMARC1; p=none"
_dmarc.twodmarc TXT "v=DMARC1; p=none"
_dmarc.twodmarc TXT "v=DMARC1; p=reject"
_dmarc.baddmarc TXT "v=DMARC1; p=sometimes"
_dmarc.notags TXT "v=DMARC1; p"
_dmarc.orderdmarc TXT "p=none; v=DMARC1"
_dmarc.strangerua TXT "v=DMARC1; p=reject; rua=mailto:x@elsewhere.example"
_dmarc.webrua TXT "v=DMARC1; p=reject; rua=https://x.example"
; DKIM, beside those of our keys
testkey._domainkey.dkim TXT "v=DKIM1; k=ed25519; t=y; p=11qYAYKxCrfVS/7TyWQHOg7hcvPapiMlrwIaaPcHURo="
revoked._domainkey.dkim TXT "v=DKIM1; k=ed25519; p="
broken._domainkey.dkim TXT "v=DKIM1; k=ed25519; p=11qYAYKx"
two._domainkey.dkim TXT "v=DKIM1; p="
two._domainkey.dkim TXT "v=DKIM1; k=ed25519; p="
short._domainkey.dkim TXT "v=DKIM1; k=rsa; p=MIGfMA0GCSqGSIb3DQEBAQUAA4GNADCBiQKBgQDkHlOQoBTzWRiGs5V6NpP3idY6Wk08a5qhdR6wy5bdOKb2jLQiY/J16JYi0Qvx/byYzCNb3W91y3FutACDfzwQ/BC/e/8uBsCR+yz1Lxj+PL6lHvqMKrM3rG4hstT5QjvHO9PzoxZyVYLzBfO2EeC3Ip3G+2kryOTIKT+l/K4w3QIDAQAB"
; policies
_mta-sts.badsts TXT "v=STSv1"
_smtp._tls.badsts TXT "v=TLSRPTv1; rua"
; block lists
2.0.0.127.listed A 127.0.0.2
26.2.0.192.listed A 127.0.0.2
26.2.0.192.listed TXT "seen sending junk"
2.0.0.127.odd A 127.0.0.2
25.2.0.192.odd A 203.0.113.1
2.0.0.127.parked A 203.0.113.1
1.0.0.127.parked A 203.0.113.1
2.0.0.0.0.0.f.7.f.f.f.f.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.six A 127.0.0.2
5.2.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.8.b.d.0.1.0.0.2.six A 127.0.0.4
test.names A 127.0.0.2
good.example.names A 127.0.1.2
; a signature that does not hold
bogus TXT "v=spf1 honest"
"""
REVERSE = """
25 PTR quay1.tern.example.
26 PTR liar.tern.example.
28 PTR out.tern.example.
"""


@pytest.fixture(scope="module")
def server(tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[DnsServer, Path]]:
    folder = tmp_path_factory.mktemp("keys")
    records = ""
    for kind, selector in KEYS.items():
        file = folder / f"{selector}.pem"
        file.touch(mode=0o600)
        file.write_bytes(make_signing_key(kind))
        text = TxtRecord("x", key_record(read_signing_key(file))).line.partition(" IN ")[2]
        records += f"{selector}._domainkey.good {text}\n"
        if kind == "rsa":
            records += f"e1._domainkey.mismatch {text}\n"
    relative = "\n".join(line if line.startswith(";") else line.replace(" ", " IN ", 1) for line in ZONE.splitlines())
    with dns_server(folder / "dns", records + relative, REVERSE, ("honest", "forged")) as running:
        yield running, folder


def configured(keys: Path, tmp_path: Path, dns: str, domain: str, **more: object) -> Loaded:
    """A server of `quay1.tern.example` that sends by a smart host and directly."""
    addresses = more.pop("addresses", OURS)
    signed = more.pop("signed", True)
    name = more.pop("name", "quay1.tern.example")
    config = tmp_path / "kite.toml"
    tables = [connector("beacon", "out.beacon.example", spf="include:spf.beacon.example"),
              connector("direct", mx=True, tls="opportunistic", recipients=["crew.example"]),
              table("[domain]", lists=more.pop("lists", []))]  # fmt: skip
    if signed:
        tables += [table("[[signing]]", domain=domain, selector=selector, key=str(keys / f"{selector}.pem"))
                   for selector in KEYS.values()]  # fmt: skip
    text = site_text(*tables, bind="127.0.0.1:2525", name=str(name), server={"dns": dns, "addresses": addresses},
                     identity={"domain": domain})  # fmt: skip
    config.write_text(text)
    return load_configuration(config)


async def report_on(
    server: tuple[DnsServer, Path], tmp_path: Path, domain: str, *selectors: str, **more: object
) -> DomainReport:
    running, keys = server
    loaded = configured(keys, tmp_path, running.resolver, domain, **more)
    [report] = await examine_domains([domain], loaded, Lookups(running.resolver, 5.0), time.time(), selectors)
    return report


def said(report: DomainReport, topic: str) -> list[tuple[str, str]]:
    return [(line.grade.value, line.text) for line in report.lines if line.topic == topic]


async def test_a_domain_that_has_all_of_it(server: tuple[DnsServer, Path], tmp_path: Path) -> None:
    report = await report_on(server, tmp_path, "good.example", lists=["listed.example"])
    assert [(line.topic, line.of, line.text) for line in report.lines if line.grade.value != "good"] == []
    assert {line.topic for line in report.lines if line.secure} == {
        "MX", "SPF", "DKIM", "DMARC", "DANE", "MTA-STS", "TLS reports"
    }  # fmt: skip
    assert said(report, "passes DMARC") == [("good", "yes: SPF and DKIM")] * 2
    assert report.spf_tree == [
        "good.example: v=spf1 ip4:192.0.2.25 include:spf.beacon.example -all",
        "  include:spf.beacon.example: v=spf1 ip4:203.0.113.0/24 ~all",
    ]
    assert not report.bad


@pytest.mark.parametrize(
    ("domain", "topic", "grade", "words"),
    [
        ("nullmx", "MX", "wrong", "accepts no mail"),
        ("aliasmx", "MX", "wrong", "an alias of mx1.good.example"),
        ("lostmx", "MX", "wrong", "it has no address"),
        ("addressmx", "MX", "wrong", "an address stands where a name must"),
        ("nomx", "MX", "remark", "the domain's own address"),
        ("nothing", "MX", "missing", "none, and no address"),
        ("nowhere", "MX", "wrong", "there is no such domain"),
        ("oldtlsa", "DANE", "wrong", "no usable TLSA record"),
        ("nomx", "MTA-STS", "remark", "none"),
        ("badsts", "MTA-STS", "wrong", "it must have v=STSv1 and id="),
        ("badsts", "TLS reports", "wrong", "'rua' has no ="),
        ("nothing", "SPF", "missing", "it has no SPF record"),
        ("twospf", "SPF", "wrong", "it has 2 SPF records"),
        ("everybody", "SPF", "wrong", "+all lets anybody send in your name"),
        ("badspf", "SPF", "wrong", "at character 23: inclde:spf.beacon.example: there is no mechanism 'inclde'"),
        ("badip", "SPF", "wrong", "at character 8: ip4:192.0.2.300: '192.0.2.300' is not a network"),
        ("noinclude", "SPF", "wrong", "nothing.example, which it includes: it has no SPF record"),
        ("loopspf", "SPF", "wrong", "it includes itself"),
        ("ptrspf", "SPF", "remark", "ptr is slow"),
        ("openspf", "SPF", "remark", "it has no `all` at its end"),
        ("manyspf", "SPF", "wrong", "11 lookups, and 10 are allowed"),
        ("voidspf", "SPF", "wrong", "3 lookups that find nothing, and 2 are allowed"),
        ("lacking", "SPF", "wrong", "mail from 192.0.2.25: fail by -all in the record of lacking.example"),
        ("lacking", "SPF", "wrong", "does not name include:spf.beacon.example"),
        ("redirecting", "SPF", "good", "192.0.2.25: pass by ip4:192.0.2.25 of good.example"),
        ("bogus", "SPF", "unknown", "its DNSSEC signatures do not hold"),
        ("nodmarc", "DMARC", "missing", "none; large receivers require one"),
        ("nonedmarc", "DMARC", "remark", "p=none: mail that fails is still accepted"),
        ("twodmarc", "DMARC", "wrong", "2 records, so that none counts"),
        ("baddmarc", "DMARC", "wrong", "p= and sp= are one of none, quarantine, reject"),
        ("notags", "DMARC", "wrong", "it cannot be read: 'p' has no ="),
        ("orderdmarc", "DMARC", "wrong", "does not begin with v=DMARC1"),
        ("strangerua", "DMARC", "wrong", "elsewhere.example does not agree to receive reports"),
        ("webrua", "DMARC", "wrong", "is not a mailto: address"),
        ("mismatch", "DKIM", "wrong", "another key is published than the one that signs"),
        ("mismatch", "DKIM", "missing", "no key is published"),
        ("lacking", "passes DMARC", "wrong", "no: SPF: fail; DKIM: not signed"),
    ],
)  # fmt: skip
async def test_records_that_are_broken(
    server: tuple[DnsServer, Path], tmp_path: Path, domain: str, topic: str, grade: str, words: str
) -> None:
    """Rows P-11 to P-14, P-17: each with its grade and its words."""
    report = await report_on(server, tmp_path, f"{domain}.example")
    result = said(report, topic)
    assert any(each == grade and words in text for each, text in result), result


@pytest.mark.parametrize(
    ("selector", "grade", "words"),
    [
        ("testkey", "remark", "t=y marks it as a test"),
        ("revoked", "wrong", "the key is revoked"),
        ("broken", "wrong", "the published key is not one of kind ed25519"),
        ("two", "wrong", "2 records, and there may be one"),
        ("short", "remark", "rsa of 1024 bits, published; receivers ask for 2048 bits"),
        ("gone", "missing", "no key is published"),
    ],
)
async def test_keys_of_others(
    server: tuple[DnsServer, Path], tmp_path: Path, selector: str, grade: str, words: str
) -> None:
    """Row P-16."""
    report = await report_on(server, tmp_path, "dkim.example", selector, signed=False)
    [(result, text)] = said(report, "DKIM")
    assert result == grade
    assert words in text


@pytest.mark.parametrize(
    ("address", "name", "topic", "grade", "words"),
    [
        ("192.0.2.25", "quay1.tern.example", "reverse DNS", "good", "quay1.tern.example, and back"),
        ("192.0.2.26", "quay1.tern.example", "reverse DNS", "wrong", "liar.tern.example, which does not resolve to"),
        ("192.0.2.27", "quay1.tern.example", "reverse DNS", "missing", "27.2.0.192.in-addr.arpa. IN PTR quay1.tern.example."),
        ("192.0.2.25", "out.tern.example", "reverse DNS", "remark", "EHLO has out.tern.example"),
        ("192.0.2.25", "out.tern.example", "EHLO name", "wrong", "it resolves to 192.0.2.26, and not to 192.0.2.25"),
        ("192.0.2.25", "lost.tern.example", "EHLO name", "missing", "it has no address"),
    ],
)  # fmt: skip
async def test_names_of_addresses(
    server: tuple[DnsServer, Path], tmp_path: Path, address: str, name: str, topic: str, grade: str, words: str
) -> None:
    """Row P-18."""
    report = await report_on(server, tmp_path, "good.example", addresses=[address], name=name)
    assert any(each == grade and words in text for each, text in said(report, topic)), said(report, topic)


async def test_block_lists_are_believed_when_their_test_entries_work(
    server: tuple[DnsServer, Path], tmp_path: Path
) -> None:
    """Rows P-09, P-10."""
    lists = ["listed.example", "names.example", "dead.example", "parked.example"]
    report = await report_on(server, tmp_path, "good.example", addresses=["192.0.2.26"], lists=lists)
    assert said(report, "block list") == [
        ("wrong", "names 192.0.2.26: seen sending junk"),
        ("wrong", "names good.example"),
        ("unknown", "it does not name its test entries (RFC 5782 5): it is dead, or does not answer your resolver"),
        ("unknown", "it does not name its test entries (RFC 5782 5): it is dead, or does not answer your resolver"),
    ]
    six = await report_on(
        server, tmp_path, "good.example", addresses=["2001:db8::25"], lists=["six.example", "listed.example"]
    )
    assert said(six, "block list") == [("wrong", "names 2001:db8::25"), ("good", "does not name anything")]
    odd = await report_on(server, tmp_path, "good.example", lists=["odd.example"])
    assert said(odd, "block list") == [("unknown", "it gives no answer that lists give")]
    clean = await report_on(server, tmp_path, "good.example", lists=["listed.example"])
    assert said(clean, "block list") == [("good", "does not name 192.0.2.25")]


async def test_a_record_that_lacks_something_is_mended_and_not_replaced(
    server: tuple[DnsServer, Path], tmp_path: Path
) -> None:
    report = await report_on(server, tmp_path, "lacking.example", signed=False)
    publish = {line.publish for line in report.lines if line.topic == "SPF" and line.publish}
    assert publish == {
        TxtRecord("lacking.example", "v=spf1 ip4:198.51.100.0/24 include:spf.beacon.example ip4:192.0.2.25 -all")
    }


async def test_what_is_to_be_published_is_then_found(server: tuple[DnsServer, Path], tmp_path: Path) -> None:
    """The records for a configuration, published by a zone file, leave nothing to complain of but the names."""
    running, keys = server
    loaded = configured(keys, tmp_path, running.resolver, "good.example")
    lookups = Lookups(running.resolver, 5.0)
    lines = await records_to_publish([Question("good.example", lookups, loaded, time.time(), (), tuple(OURS))])
    wanted = tmp_path / "wanted.zone"
    wanted.write_text("$TTL 300\n" + "\n".join(lines) + "\n")
    assert await compare_published(wanted, lookups) == ([], 3)
    wanted.write_text(wanted.read_text().replace("-all", "~all"))
    [difference], _ = await compare_published(wanted, lookups)
    assert (difference.name, difference.kind) == ("good.example", "TXT")


async def test_a_resolver_that_does_not_validate_vouches_for_nothing(
    server: tuple[DnsServer, Path], tmp_path: Path
) -> None:
    running, keys = server
    loaded = configured(keys, tmp_path, running.authority, "good.example")
    [report] = await examine_domains(["good.example"], loaded, Lookups(running.authority, 5.0), time.time())
    assert not any(line.secure for line in report.lines)
    assert said(report, "DANE")[0][0] == "remark"


async def test_a_resolver_that_does_not_answer_is_no_missing_record(
    tmp_path: Path, server: tuple[DnsServer, Path]
) -> None:
    loaded = configured(server[1], tmp_path, "127.0.0.1:9", "good.example")
    [report] = await examine_domains(["good.example"], loaded, Lookups("127.0.0.1:9", 0.3), time.time())
    assert {line.grade.value for line in report.lines if line.topic in ("MX", "SPF", "DKIM", "DMARC", "MTA-STS")} == {
        "unknown"
    }


async def test_certificates_that_end(tmp_path: Path, server: tuple[DnsServer, Path]) -> None:
    running, keys = server
    loaded, now = configured(keys, tmp_path, running.resolver, "good.example"), time.time()
    ends = [
        ("listener", "programs", now + 90 * 86400),
        ("next hop", "a of b", now + 86400),
        ("next hop", "c of d", now - 86400),
    ]
    [report] = await examine_domains(["good.example"], loaded, Lookups(running.resolver, 5.0), now, (), ends)
    assert said(report, "certificate") == [
        ("good", "ends in 90 days"),
        ("remark", "ends in 1 days"),
        ("wrong", "has ended 1 days ago"),
    ]


def test_the_domains_that_a_configuration_sends_from(tmp_path: Path) -> None:
    config = tmp_path / "kite.toml"
    config.write_text(site_text(
        connector("beacon", "out.beacon.example", sender="out@sender.example"), table("[[account]]", name="a", senders=["x@account.example", "*"]),
        bind="127.0.0.1:2525", identity={"domain": "good.example", "senders": {"root": "duty@duty.example"}},
    ))  # fmt: skip
    assert sending_domains(load_configuration(config)) == [
        "good.example",
        "duty.example",
        "sender.example",
        "account.example",
    ]
