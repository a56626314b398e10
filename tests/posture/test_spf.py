"""SPF records evaluated (RFC 7208): mechanisms, macros, limits."""

from __future__ import annotations

import ipaddress
from pathlib import Path

import pytest

from copper_kite.net import Lookups
from copper_kite.posture.spf import evaluate, parse_record, survey
from copper_kite.posture.spf.macros import Subject, expand

# RFC 7208 7.4, in a domain of ours
SUBJECT = Subject(ipaddress.ip_address("192.0.2.3"), "strong-bad@email.ferries.example", "mx.ferries.example")
SIX = Subject(ipaddress.ip_address("2001:db8::cb01"), "strong-bad@email.ferries.example", "mx.ferries.example")


@pytest.mark.parametrize(
    ("text", "expanded"),
    [
        ("%{s}", "strong-bad@email.ferries.example"),
        ("%{o}", "email.ferries.example"),
        ("%{d4}", "email.ferries.example"),
        ("%{d2}", "ferries.example"),
        ("%{d1}", "example"),
        ("%{dr}", "example.ferries.email"),
        ("%{d2r}", "ferries.email"),
        ("%{l}", "strong-bad"),
        ("%{l-}", "strong.bad"),
        ("%{lr-}", "bad.strong"),
        ("%{l1r-}", "strong"),
        ("%{h}", "mx.ferries.example"),
        ("%{ir}.%{v}._spf.%{d2}", "3.2.0.192.in-addr._spf.ferries.example"),
        ("%{lr-}.lp._spf.%{d2}", "bad.strong.lp._spf.ferries.example"),
        ("%{D2}.x%%y", "ferries.example.x%y"),
    ],
)
def test_macros(text: str, expanded: str) -> None:
    """Row P-15."""
    assert expand(text, SUBJECT, "email.ferries.example") == expanded


def test_macros_of_ipv6_and_of_names_that_come_out_too_long() -> None:
    six = "1.0.b.c.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.8.b.d.0.1.0.0.2"
    assert expand("%{ir}.%{v}._spf.%{d2}", SIX, "email.ferries.example") == f"{six}.ip6._spf.ferries.example"
    long = expand("%{ir}.%{ir}.%{ir}.%{ir}.%{ir}.%{d}", SIX, "email.ferries.example")
    assert len(long) <= 253
    assert long.endswith("email.ferries.example")


ZONE = """$TTL 300
a.example. IN TXT "v=spf1 a/28 -all"
a.example. IN A 192.0.2.1
a6.example. IN TXT "v=spf1 a//64 -all"
a6.example. IN AAAA 2001:db8::1
mx.example. IN TXT "v=spf1 mx ?all"
mx.example. IN MX 10 h1.mx.example.
h1.mx.example. IN A 192.0.2.3
exists.example. IN TXT "v=spf1 exists:%{ir}.ok.example -all"
3.2.0.192.ok.example. IN A 127.0.0.2
ptr.example. IN TXT "v=spf1 ptr -all"
3.2.0.192.in-addr.arpa. IN PTR h3.ptr.example.
4.2.0.192.in-addr.arpa. IN PTR liar.ptr.example.
h3.ptr.example. IN A 192.0.2.3
soft.example. IN TXT "v=spf1 ~all"
nothing.example. IN TXT "v=spf10 -all"
deep.example. IN TXT "v=spf1 include:soft.example include:a.example -all"
lost.example. IN TXT "v=spf1 redirect=nowhere.example"
modifier.example. IN TXT "v=spf1 ip4:192.0.2.0/24 unknown=x exp=why.example -all"
case.example. IN TXT "V=SPF1 IP4:192.0.2.3 -ALL"
zero.example. IN TXT "v=spf1 a:a.example/0 -all"
manymx.example. IN TXT "v=spf1 mx -all"
v1.example. IN TXT "v=spf1 a:n1.example a:n2.example a:n3.example ip4:192.0.2.3 -all"
""" + "".join(f"manymx.example. IN MX 10 h{n}.mx.example.\n" for n in range(11))


@pytest.mark.parametrize(
    ("domain", "address", "result", "by"),
    [
        ("a.example", "192.0.2.14", "pass", "a/28"),
        ("a.example", "192.0.2.16", "fail", "-all"),
        ("a.example", "2001:db8::1", "fail", "-all"),
        ("a6.example", "2001:db8::ffff", "pass", "a//64"),
        ("mx.example", "192.0.2.3", "pass", "mx"),
        ("mx.example", "192.0.2.4", "neutral", "?all"),
        ("exists.example", "192.0.2.3", "pass", "exists:%{ir}.ok.example"),
        ("exists.example", "192.0.2.4", "fail", "-all"),
        ("ptr.example", "192.0.2.3", "pass", "ptr"),
        ("ptr.example", "192.0.2.4", "fail", "-all"),
        ("soft.example", "192.0.2.3", "softfail", "~all"),
        ("nothing.example", "192.0.2.3", "none", ""),
        ("nowhere.example", "192.0.2.3", "none", ""),
        ("deep.example", "192.0.2.3", "pass", "include:a.example"),
        ("lost.example", "192.0.2.3", "permerror", ""),
        ("modifier.example", "192.0.2.3", "pass", "ip4:192.0.2.0/24"),
        ("case.example", "192.0.2.3", "pass", "IP4:192.0.2.3"),
        ("zero.example", "203.0.113.9", "pass", "a:a.example/0"),
        ("manymx.example", "192.0.2.3", "permerror", ""),
        ("v1.example", "192.0.2.3", "permerror", ""),
    ],
)
async def test_results(tmp_path: Path, domain: str, address: str, result: str, by: str) -> None:
    """Rows P-11 to P-14."""
    zone = tmp_path / "zone"
    zone.write_text(ZONE)
    outcome = await evaluate(Lookups(f"zone:{zone}", 1.0), address, domain)
    assert (outcome.result, outcome.mechanism) == (result, by), outcome.why


async def test_records_that_include_each_other_without_end_are_given_up(tmp_path: Path) -> None:
    """Each includes ten others, ten levels deep: nobody asks for ten thousand million records."""
    zone = tmp_path / "zone"
    lines = [
        f'd{level}n{number}.example. IN TXT "v=spf1 {" ".join(f"include:d{level + 1}n{n}.example" for n in range(10))} -all"'
        for level in range(10)
        for number in range(10)
    ]
    zone.write_text("$TTL 300\n" + "\n".join(lines) + "\n")
    node = await survey(Lookups(f"zone:{zone}", 1.0), "d0n0.example")
    assert len(list(node.walk())) < 1000
    assert any("more than 60 records" in part.problem for part in node.walk())
    assert (await evaluate(Lookups(f"zone:{zone}", 1.0), "192.0.2.3", "d0n0.example")).result == "permerror"


async def test_a_server_that_does_not_answer_is_a_temporary_error() -> None:
    result = await evaluate(Lookups("127.0.0.1:9", 0.2), "192.0.2.3", "a.example")
    assert result.result == "temperror"


@pytest.mark.parametrize(
    ("text", "place", "problem"),
    [
        ("v=spf1 ip4:192.0.2.1 ip4:bad -all", 22, "ip4:bad: 'bad' is not a network"),
        ("v=spf1 ip4:2001:db8::1", 8, "ip4:2001:db8::1: '2001:db8::1' is of IPv6"),
        ("v=spf1 a:x.example/33", 8, "a:x.example/33: an invalid prefix length"),
        ("v=spf1 a:x.example/024", 8, "a:x.example/024: an invalid prefix length"),
        ("v=spf1 include:", 8, "include:: no domain after it"),
        ("v=spf1 include:localhost", 8, "include:localhost: 'localhost' is not a domain name"),
        ("v=spf1 all:x", 8, "all:x: `all` takes no argument"),
        ("v=spf1 exists:%{q}.example", 8, "exists:%{q}.example: an invalid macro"),
        ("v=spf1 redirect=a.example redirect=b.example", 27, "redirect=b.example: a second redirect="),
        ("v=spf1 -all,", 8, "-all,: neither a mechanism nor a modifier"),
        ("v=spf1 ip4=192.0.2.1 ip4", 22, "ip4: no network after it"),
        ("v=spf1 \u2013all", 8, "\u2013all: neither a mechanism nor a modifier"),
    ],
)
def test_what_is_wrong_in_a_record_has_its_place(text: str, place: int, problem: str) -> None:
    assert (place, problem) in parse_record(text).problems
