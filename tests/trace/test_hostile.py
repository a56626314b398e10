"""What anybody may have written (headers, notices, lines of logs) is read without an error, whatever it is."""

from __future__ import annotations

import time

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from copper_kite.mail.dates import parse_date
from copper_kite.mail.dsn_parser import read_notice
from copper_kite.mail.header import decode_words
from copper_kite.trace.logs import LogSource
from copper_kite.trace.syslog import parse_time
from copper_kite.trace.told import judge_told
from copper_kite.trace.way import find_way, way_verdict
from tests.trace.test_returned import a_notice

HEADER = (
    b'Received: from a (b (c) d) by "e" with ESMTPS (TLSv1.3) id f for <g@h>; Mon, 23 Nov 2026 10:00:00 +0100\n'
    b'Authentication-Results: mx.example 1; spf=pass (x) smtp.mailfrom=y; dkim=fail reason="z"\n'
    b"Subject: =?utf-8?q?x?=\n\n"
)
LINES = (
    b'<34>1 2003-10-11T22:14:15.003Z m su - ID47 [a@1 k="x"] words', b"Nov 23 08:59:58 quay1 gate[17]: sent a=b",
    b'{"time": 1795424401, "msg": "sent", "a": {"b": [1]}}', b'2026-11-23T09:00:01Z notice relayed id=0D4 reply="250"',
)  # fmt: skip
PIECES = (b"(", b")", b'"', b"\\", b";", b"\n", b"\r\n", b"--b 1", b"=", b"\x00", b"\xff", b"9" * 30, b"[", b"]", b"@", b"<",
          b"=?x?b?!!?=", b"=?\xff?q?=E1?=", b"charset=none", b"Content-Type: multipart/mixed; boundary=b 1")  # fmt: skip
SPOILT = st.lists(st.tuples(st.integers(0, 4000), st.integers(0, 40), st.sampled_from(PIECES)), max_size=8)


def spoil(content: bytes, changes: list[tuple[int, int, bytes]]) -> bytes:
    spoilt = bytearray(content)
    for at, length, piece in changes:
        place = at % (len(spoilt) + 1)
        spoilt[place : place + length] = piece
    return bytes(spoilt)


@settings(max_examples=150, deadline=None)
@given(SPOILT, st.integers(0, 3))
def test_whatever_it_is_it_is_read(changes: list[tuple[int, int, bytes]], number: int) -> None:
    way_verdict(find_way(spoil(HEADER, changes), ["mx.example"]), "a")
    notice = read_notice(spoil(a_notice(), changes))
    for item in notice.recipients if notice is not None else ():
        facts = {"recipient": item.recipient, "action": item.action, "status": item.status, "said": item.said}
        judge_told({**facts, "at_server": item.at_server, "reporter": notice.reporter if notice else ""}, {})
    LogSource("x", ()).read(spoil(LINES[number], changes).replace(b"\n", b" "), time.time())


@pytest.mark.parametrize(
    "content",
    [
        b"Received: " + b"(" * 10**6,
        b"Received: from a by b; " + b"x " * 10**6,
        b"Received: from a by b; 1 Jan 2026 10:00 GMT\n" * 30_000,
        b"Content-Type: multipart/report; boundary=b\n\n" + b"--b\n" * 300_000,
        b"Authentication-Results: " + b"a=b;" * 200_000,
        b'{"a":' * 20_000,
        b"From: mailer-daemon@x.example\n\n" + b"a" * 300_000 + b" 550 no",
        b"Received: from x (" + b"f" * 64_000 + b") by y; z",
    ],
)
def test_what_is_huge_takes_its_bounded_time(content: bytes) -> None:
    """Nothing in it is looked at more often than its size allows; the test itself would not end otherwise."""
    steps = find_way(content).steps
    assert len(steps) <= 1000 and not any(step.hop.address or step.hop.tls or step.hop.cipher for step in steps)
    read_notice(content)
    LogSource("x", ()).read(content, time.time())


def test_encoded_words_that_are_none() -> None:
    """A subject is read while a message is taken: nothing in it may stop that."""
    for text in ("=?utf\ufffd8?q?x?=", "=?x?b?!!!?=", "=?utf-8?b?/w==?=", "=?utf-8?q?=", "=?" * 9999):
        decode_words(text)
    assert decode_words("=?utf-8?b?w6FuYQ==?= =?iso-8859-1?q?=E1?=") == "\u00e1na\u00e1"


@pytest.mark.parametrize(
    "text",
    ["9999-12-31T23:59:59-12:00", "0001-01-01T00:00:00+14:00", "9999-12-31T23:59:59", "0001-01-01T00:00:00", "0000-01-01T00:00:00Z"],
)  # fmt: skip
def test_what_no_calendar_has_everywhere_is_no_time(text: str) -> None:
    """It could not be shown in another zone."""
    assert parse_time(text) is None


def test_nor_is_it_a_date() -> None:
    assert parse_date("Fri, 31 Dec 9999 23:59:60 +0000").at is None
    assert parse_date("Wed, 29 Dec 9999 23:59:60 +0000").at is not None
