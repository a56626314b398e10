"""The way of a received message: fields, dates, delays, results (rows P-01 to P-05)."""

from __future__ import annotations

import io
import json
from pathlib import Path

import pytest

from copper_kite.mail.auth_results import parse_results
from copper_kite.mail.dates import parse_date
from copper_kite.mail.header import header_fields
from copper_kite.mail.mbox import MOST_OF_LINE, MOST_OF_MESSAGE, mbox_entry, mbox_lines, mbox_messages
from copper_kite.mail.received_parser import parse_received
from copper_kite.trace.clocks import estimate
from copper_kite.trace.way import find_way, way_verdict
from tests.support import kite, write_site

TOP = "Authentication-Results: mx1.port.example; spf=pass; dkim=fail reason=x header.d=a.example\n"


def received(sender: str, receiver: str, at: str, with_: str = "ESMTP", id: str = "1") -> str:
    return f"Received: from {sender} by {receiver} with {with_}\n\tid {id}; {at}\n"


def test_received_fields_of_all_kinds() -> None:
    """P-01: folding, nested comments, strings, `;` in a comment, unknown clauses, missing ones."""
    hop = parse_received(
        'a.example (b (c\\) d) [192.0.2.1]) by "q;s" (x; y) via TCP with ESMTPS (TLSv1.3 TLS_AES_256_GCM_SHA384)'.join(
            ("from ", " id <1A> unheard <x@y> for <r@z>; Mon, 23 Nov 2026 10:00:00 +0100 (CET; z)")
        )
    )
    assert (hop.sender, hop.receiver, hop.via, hop.protocol, hop.id, hop.recipient) == (
        "a.example", "q;s", "TCP", "ESMTPS", "1A", "r@z",
    )  # fmt: skip
    assert (
        hop.comments["from"] == "b (c) d) [192.0.2.1]" and hop.comments["by"] == "x; y" and hop.rest == "unheard <x@y>"
    )
    assert (hop.address, hop.tls, hop.cipher, hop.secure) == ("192.0.2.1", "TLSv1.3", "TLS_AES_256_GCM_SHA384", True)
    assert hop.when.at == 1795424400.0
    assert parse_received("(by nobody) for r@z").recipient == "r@z", "missing clauses break none of the others"
    for broken in ("", "from", "from (((", 'by "', ";;;", "from a by b; from c", "x" * 10**6):
        parse_received(broken)
    (_, value), *_ = header_fields(
        b"Received: from a\r\n\tby b\r\n  ; 1 Jan 2026 1:00\r\nSubject: x\r\n\r\nbody: no\r\n"
    )
    assert parse_received(value).receiver == "b" and parse_received(value).when.at is not None


@pytest.mark.parametrize(
    ("text", "at", "known"),
    [
        ("Thu, 1 Jan 2026 00:00:00 +0000", 1767225600, True),
        ("1 Jan 2026 00:00 GMT", 1767225600, True),
        ("01 Jan 26 00:00:00 GMT", 1767225600, True),
        ("1 Jan 126 00:00:00 UT", 1767225600, True),
        ("1 Jan 49 00:00:00 GMT", 2493072000, True),
        ("1 Jan 50 00:00:00 GMT", -631152000, True),
        ("31 Dec 2025 23:59:60 GMT", 1767225600, True),
        ("31 Dec 2025 19:00:00 EST", 1767225600, True),
        ("Thu, 1 Jan 2026 01:30:00 +0130 (odd; zone (really))", 1767225600, True),
        ("1 Jan 2026 00:00:00 Z", 1767225600, False),
        ("1 Jan 2026 00:00:00 NOWHR", 1767225600, False),
        ("1 Jan 2026 00:00:00 -0000", 1767225600, False),
        ("31 Feb 2026 00:00:00 GMT", None, True),
        ("1 Foo 2026 00:00:00 GMT", None, True),
        ("1 Jan 2026 00:00:61 GMT", None, True),
        ("soon", None, True),
    ],
)
def test_dates_as_they_are_met(text: str, at: float | None, known: bool) -> None:
    """P-02."""
    when = parse_date(text)
    assert (when.at, when.zone_known) == (at, known)
    assert bool(when.fault) == (at is None)


def waits(*stamps: tuple[str, float]) -> list[tuple[float, float, float]]:
    return [tuple(wait) for wait in estimate(stamps).waits]  # type: ignore[misc]


def test_how_wrong_the_clocks_are() -> None:
    """P-03: the fewest wrong clocks that explain dates which run backwards, the likeliest first; waits within what all
    explanations leave open."""
    assert waits(("a", 0), ("b", 5), ("c", 4)) == [(5, 5, 5), (0, 0, 0)], "two seconds are how clocks are"
    slow = estimate([("a", 0), ("b", -1799), ("c", 2), ("d", 3)])
    assert slow.wrong == [("b", -1800)] and [other.server for other in slow.others] == ["a"]
    assert slow.waits[1] == (1, 0, 1801) and not slow.waits[1].certain and slow.waits[2] == (1, 1, 1)
    fast = estimate([("a", 0), ("b", 7201), ("c", 3)])
    assert fast.wrong == [("b", 7199.5)] and fast.total.likely == 3 and not any(wait.certain for wait in fast.waits)
    sure = estimate([("a", 0), ("b", -1799), ("c", 2), ("c", 900), ("d", 901)])
    assert sure.waits[2] == (898, 898, 898) and sure.waits[2].certain, "one clock tells what it was, however wrong"
    twice = estimate([("a", 0), ("b", -1790), ("c", 20), ("b", -1765), ("d", 40)])
    assert twice.wrong == [("b", -1797.5)] and twice.waits[0] == (7.5, 0, 15), "as wrong at one hop as at the other"
    two = estimate([("a", 0), ("b", -600), ("c", 10), ("d", 900), ("e", 20), ("f", 21)])
    assert {item.server for item in two.wrong} == {"b", "d"} and two.total.likely == 21
    many = estimate([(f"s{number}", number if number % 3 else -1000.0 - number) for number in range(200)])
    assert len(many.wrong) == 66 and many.total.likely == 1199
    assert estimate([("a", 0)]).waits == () and estimate([]).total == (0, 0, 0)


def test_delays_and_skew() -> None:
    """P-03: in UTC; nobody is blamed for what a wrong clock may have made up; no date breaks no other hop."""
    header = (
        received("mx", "store", "23 Nov 2026 11:12:05 +0100")
        + received("hop", "mx", "never")
        + received("quay1", "hop", "23 Nov 2026 09:59:30 +0000")
        + received("prog", "quay1", "23 Nov 2026 10:00:00 +0000")
        + "Subject: x\n\n"
    )
    way = find_way(header.encode())
    assert [step.delay for step in way.steps] == [None, -30.0, None, 755.0]
    assert way.steps[3].waited_at == "hop", "which had it, as far as dates tell"
    verdict = way_verdict(way, "quay1")
    assert verdict.meaning.startswith("Whether it waited anywhere cannot be told. The clock of")
    for clock in ("hop is 6m", "quay1 is 30s fast"):
        assert clock in verdict.meaning
    dates = ("10:00:00", "09:30:01", "10:00:02", "10:11:02")
    names = ("prog", "quay1", "hop", "mx", "store")
    slow = "".join(
        received(names[number], names[number + 1], f"23 Nov 2026 {dates[number]} +0000") for number in (3, 2, 1, 0)
    )
    verdict = way_verdict(find_way(slow.encode()), "quay1")
    assert verdict.meaning.startswith("It waited 11m at mx before store took it. The clock of hop is 30m slow")
    assert verdict.evidence.startswith("4 hops, 11m 2s")
    loop = find_way((received("a", "b", "x") + received("b", "a", "x") + received("a", "b", "x")).encode())
    assert [step.repeated for step in loop.steps] == [True, False, True]
    assert "goes in a circle" in way_verdict(loop, "b").meaning
    assert "never passed a server" in way_verdict(find_way(b"Subject: x\n"), "").meaning
    assert way_verdict(find_way(received("a", "b", "x").encode()), "").evidence == "1 hop, 0s in all"


def test_results_of_checks() -> None:
    """P-04."""
    checked = parse_results(
        'mx.example 1; spf=pass (c) smtp.mailfrom=example.net; dkim=fail reason="bad; sig" header.d=example.org; new/2=odd'
    )
    assert (checked.server, checked.version) == ("mx.example", "1")
    assert [(result.method, result.value, result.reason, result.properties) for result in checked.results] == [
        ("spf", "pass", "", {"smtp.mailfrom": "example.net"}),
        ("dkim", "fail", "bad; sig", {"header.d": "example.org"}),
        ("new", "odd", "", {}),
    ]
    assert parse_results("mx.example; none").results == [] and parse_results("").results == []


def test_whose_results_count() -> None:
    """P-05: a trusted server's, and only above the field by which its domain took the message in."""
    ours = received("mx1.port.example", "store.port.example", "x") + received("out.example", "mx1.port.example", "x")
    theirs = TOP + received("evil", "mx1.port.example", "x")
    content = (TOP + ours + received("quay1", "out.example", "x") + theirs).encode()
    assert [claim.verified for claim in find_way(content, ["MX1.port.example"]).claims] == [True, False]
    assert [claim.verified for claim in find_way(content).claims] == [False, False]
    unpassed = (TOP + received("quay1", "out.example", "x")).encode()
    assert [claim.verified for claim in find_way(unpassed, ["mx1.port.example"]).claims] == [False]


def test_the_command(folder: Path) -> None:
    """A file, a paste with blanks before each line, and an mbox of several."""
    config = write_site(folder, 2525, tls="off")
    quay1 = "quay1.ternferries.example"
    header = received(quay1, "out.example", "23 Nov 2026 10:05:00 GMT", "ESMTPSA", "2") + received(
        "ana", quay1, "23 Nov 2026 10:00:00 GMT"
    ).replace(";", " for <ana@passenger.example>;")
    content = f"{header}Subject: =?utf-8?q?high_tide?=\nFrom: <t@ternferries.example>\n\nbody\nFrom here on\n".encode()
    (folder / "one.eml").write_bytes(content)
    told = json.loads(kite("headers", "--json", folder / "one.eml", config=config).stdout)
    assert told["subject"] == "high tide" and [hop["delay"] for hop in told["hops"]] == [None, 300.0]
    assert told["departure"]["expected_connector"] == "beacon" and told["departure"]["secure"] is True
    assert told["verdict"]["next"] == f"kite --config {config} trace 1" and told["verdict"]["side"] == "here"
    pasted = b"".join(b"    " + line + b"\n" for line in content.splitlines())
    shown = kite("headers", stdin=pasted, config=config).stdout.decode()
    assert f"It waited 5m at {quay1}" in shown and "high tide" in shown and "ESMTPSA" in shown
    (folder / "two.mbox").write_bytes(mbox_entry(content, "a@b.example", 0.0) * 2)
    assert [message[:8] for message in mbox_messages((folder / "two.mbox").open("rb"))] == [b"Received"] * 2
    told = json.loads(kite("headers", "--json", folder / "two.mbox", config=config).stdout)
    assert [len(way["hops"]) for way in told] == [2, 2]
    assert b"It waited 5m" in kite("headers", folder / "two.mbox", "--number", "2", config=config).stdout
    assert kite("headers", folder / "two.mbox", "--number", "3", config=config).returncode == 2
    (folder / "three.mbox").write_bytes(mbox_entry(content, "a@b.example", 0.0) * 3)
    assert b"and more; --limit 20" in kite("headers", folder / "three.mbox", "--limit", "2", config=config).stdout
    assert b"and more" not in kite("headers", folder / "three.mbox", "--limit", "3", config=config).stdout
    done = kite("notice", folder / "three.mbox", "--limit", "2", config=config)
    assert b"None of 2 is a notice" in done.stdout and b"more messages than the 2" in done.stderr
    assert kite("headers", stdin=b"", config=config).returncode == 0


def test_an_mbox_without_ends_needs_little_room() -> None:
    """RFC 4155; a line without an end, and a message of which only the beginning is kept."""
    lines = list(mbox_lines(io.BytesIO(b"From a\n" + b"x" * (MOST_OF_LINE + 5) + b"\nFrom b\n\nFrom c\ny\n")))
    assert [len(line) for line in lines] == [7, MOST_OF_LINE, 6, 7, 1, 7, 2]
    assert [len(message) for message in mbox_messages(lines)] == [MOST_OF_LINE + 6 + 7 + 1, 2]
    endless = [b"From a\n", *[b"x" * MOST_OF_LINE] * 40, b"\n", b"From b\n", b"y\n"]
    assert [len(message) for message in mbox_messages(endless)] == [MOST_OF_MESSAGE, 2]
