"""Notices from elsewhere: read, joined to our messages, noted in their stories, grouped (row P-08)."""

from __future__ import annotations

import asyncio
import base64
import json
import re
from pathlib import Path

import pytest

from copper_kite.mail.dsn_parser import read_notice
from copper_kite.net.authority import CertificateFiles
from tests.cli.test_commands import smart_host, take
from tests.support import kite, running, write_site

HEAD = """\
From: Mail System <postmaster@mx1.passenger.example>
To: <rota@ternferries.example>
Date: Mon, 23 Nov 2026 10:00:00 +0000
Message-ID: <n1@mx1.passenger.example>
MIME-Version: 1.0
Content-Type: multipart/report; report-type=delivery-status;
 boundary="b 1"

nobody reads this
--b 1
Content-Type: text/plain

It could not be delivered.
--b 1
"""
STATUS = """\
Content-Type: message/delivery-status

Reporting-MTA: dns; mx1.passenger.example
X-Odd: yes
ORIGINAL-ENVELOPE-ID: env-7


final-recipient:RFC822; ana.silva@passenger.example
Action: FAILED (really)
STATUS: 5.2.2 (mailbox
 full)
Remote-MTA: dns;store.passenger.example
Diagnostic-Code: smtp; 552 5.2.2 the
 mailbox is full
X-Unheard: of

Final-Recipient: rfc822;bo@passenger.example
Will-Retry-Until: Tue, 24 Nov 2026 10:00:00 +0000

"""
ORIGINAL = """\
--b 1
Content-Type: text/rfc822-headers

Message-ID: {message_id}
Subject: =?utf-8?q?Watches?=
--b 1--
behind it
"""


def a_notice(message_id: str = "<m1@ternferries.example>") -> bytes:
    return (HEAD + STATUS + ORIGINAL.format(message_id=message_id)).replace("\n", "\r\n").encode()


def test_a_report_in_all_its_forms() -> None:
    """P-08: folded fields, names in any case, unknown ones, empty lines, two recipients; what is missing is told."""
    for content in (a_notice(), a_notice().replace(b"\r\n", b"\n")):
        notice = read_notice(content)
        assert notice is not None and notice.form == "report" and notice.envelope_id == "env-7"
        assert (notice.reporter, notice.message_id, notice.subject) == (
            "mx1.passenger.example", "<m1@ternferries.example>", "Watches",
        )  # fmt: skip
        ana, bo = notice.recipients
        assert (ana.recipient, ana.action, ana.status, ana.at_server) == (
            "ana.silva@passenger.example", "failed", "5.2.2", "store.passenger.example",
        )  # fmt: skip
        assert ana.said == "552 5.2.2 the mailbox is full" and ana.failed and not ana.missing
        assert ana.others == {"x-unheard": "of"}
        assert bo.missing == ("Action", "Status") and bo.until == 1795514400.0 and not bo.failed


def test_a_report_of_those_whose_names_are_not_ascii() -> None:
    """RFC 6533: message/global-delivery-status, as it is or encoded, and addresses in both of its forms."""
    group = "Reporting-MTA: dns; mx\n\nFinal-Recipient: utf-8; {}\nAction: failed\nStatus: 5.1.1\n"
    for address in ("ána@port.example", "\\x{E1}na@port.example"):
        octets = base64.encodebytes(group.format(address).encode()).decode()
        part = f"Content-Type: message/global-delivery-status\nContent-Transfer-Encoding: base64\n\n{octets}--b 1--\n"
        notice = read_notice((HEAD + part).encode())
        assert notice is not None and notice.recipients[0].recipient == "ána@port.example"


def test_in_words_alone() -> None:
    """Only from who sends such, and only what is said: a code, an address, the message that is quoted."""
    words = (
        "From: MAILER-DAEMON@old.example\nSubject: returned\n\nYour mail to <finn.berg@passenger.example> came back:\n"
        "  host mx.example said: 550 5.1.1 <finn.berg@passenger.example>: unknown user\n\n> Message-ID: <m2@x.example>\n"
    )
    notice = read_notice(words.encode())
    assert notice is not None and notice.form == "words" and notice.message_id == "<m2@x.example>"
    (finn,) = notice.recipients
    assert (finn.recipient, finn.action, finn.status) == ("finn.berg@passenger.example", "failed", "5.1.1")
    assert finn.said.startswith("550 5.1.1 <finn.berg@passenger.example>: unknown user") and finn.missing
    assert read_notice(words.replace("MAILER-DAEMON", "ana").encode()) is None, "anybody may write so"
    assert read_notice(b"From: postmaster@x.example\n\nWelcome to room 5501 at a@x.example\n") is None
    for broken in (b"", b"\r\n", b"Content-Type: multipart/report; boundary=\n\n--\n", a_notice()[:700], b"\xff" * 999):
        read_notice(broken)


WORDS = [
    ("Return-Path: <>\nFrom: mail@x.example\nSubject: sorry\n\nYour message could not be delivered.\n\n"
     "<ana@x.example>:\n  (550) mailbox unknown to us\n", [("ana@x.example", "failed", "", "550 mailbox unknown to us")]),
    ("Return-Path:\nFrom: system@x.example\n\nNot delivered:\n\n  ana@x.example: no such place [#5.1.2]\n",
     [("ana@x.example", "failed", "5.1.2", "no such place [#5.1.2")]),
    ("From: postmaster@x.example\nSubject: Undeliverable: list\n\nThese came back:\n<ana@x.example>: user unknown\n"
     "<bo@x.example>: 452 4.2.2 mailbox full\n",
     [("ana@x.example", "failed", "", "user unknown"), ("bo@x.example", "delayed", "4.2.2", "452 4.2.2 mailbox full")]),
    ("From: MAILER-DAEMON@x.example\nSubject: waiting\n\nMail for bo@x.example is delayed; we still try.\n",
     [("bo@x.example", "delayed", "", "Mail for bo@x.example is delayed; we still try.")]),
    ("From: MAILER-DAEMON@x.example\nX-Some-Failed-Recipients: bo@x.example\n\nSee below.\n",
     [("bo@x.example", "failed", "", "")]),
]  # fmt: skip


@pytest.mark.parametrize(("words", "told"), WORDS)
def test_in_the_words_of_others(words: str, told: list[tuple[str, str, str, str]]) -> None:
    """Each recipient with what is said of it: a code in brackets, an enhanced one alone, or in no more than words."""
    notice = read_notice(words.encode())
    assert notice is not None
    assert [
        (recipient.recipient, recipient.action, recipient.status, recipient.said) for recipient in notice.recipients
    ] == told
    plain = re.sub(r"(?m)^(From: )\S+", r"\1ana@y.example", words.replace("Return-Path:", "X-Path:"), count=1)
    assert read_notice(plain.encode()) is None, "anybody may write so"


def test_a_verdict_on_one_that_failed_and_one_that_waits(folder: Path) -> None:
    config = write_site(folder, 2525, tls="off")
    (folder / "both.eml").write_text(WORDS[2][0])
    verdict = json.loads(kite("notice", "--json", folder / "both.eml", config=config).stdout)[0]["verdict"]
    shown = " ".join(kite("notice", folder / "both.eml", config=config).stdout.decode().split())
    assert "Returned from beyond for ana@x.example" in shown and "It waits beyond for bo@x.example" in shown, verdict


async def test_joined_to_our_message_and_told_in_its_story(folder: Path, authority: CertificateFiles) -> None:
    """By Message-ID; noted once, however often it is read; a folder of them is grouped."""

    def test(config: Path) -> None:
        kite("pipe", "ana.silva@passenger.example", stdin=b"Message-ID: <m1@ternferries.example>\n\nx\n", config=config)
        story = json.loads(kite("trace", "<m1@ternferries.example>", "--json", config=config).stdout)
        notices = folder / "notices"
        notices.mkdir()
        for number in range(3):
            about = f"<m{number}@ternferries.example>"
            (notices / f"{number}.eml").write_bytes(a_notice(about).replace(b"<n1@", f"<n{number}@".encode()))
        told = json.loads(kite("notice", "--json", "--look-only", notices, config=config).stdout)
        assert [event["id"] for event in told] == [None, None, story["id"], story["id"], None, None]
        assert told[0]["verdict"]["advice"].startswith("send it again later"), "it is not in our queue any longer"
        assert told[0]["status_means"].startswith("the mailbox is full") and told[0]["verdict"]["side"] == "beyond"
        assert told[1]["missing"] == ["Action", "Status"]
        before = kite("trace", story["id"], config=config).stdout.decode()
        assert "returned from beyond" not in before
        shown = kite("notice", notices, config=config).stdout.decode()
        assert "3 notices tell of 6 recipients" in shown and "Noted in the stories of 2 recipients" in shown
        assert "552 5.2.2 the mailbox is full, 3 of 6" in shown
        assert "Noted" not in kite("notice", notices / "1.eml", config=config).stdout.decode(), "it is known"
        story = json.loads(kite("trace", story["id"], "--json", config=config).stdout)
        assert "returned from beyond for ana.silva@passenger.example" in story["verdict"]["meaning"]
        assert story["verdict"]["side"] == "beyond" and "552 5.2.2" in story["verdict"]["evidence"]
        assert [line["what"] for line in story["timeline"]].count("failed") == 1
        assert kite("notice", stdin=b"Subject: no\n\nnotice\n", config=config).returncode == 1
        item = kite("notice", "-", stdin=a_notice("<elsewhere@x.example>"), config=config).stdout.decode()
        assert "2 recipients" in item

    async with smart_host(folder, authority) as (hop, caught):
        config = write_site(folder, hop)
        with running(config):
            piped = asyncio.create_task(asyncio.to_thread(test, config))
            await take(caught)
            await piped


@pytest.mark.parametrize("action", ["delivered", "relayed"])
def test_good_news(action: str, folder: Path) -> None:
    """A notice that tells of no trouble has no next step."""
    config = write_site(folder, 2525, tls="off")
    content = a_notice().replace(b"FAILED (really)", action.encode())
    told = json.loads(kite("notice", "--json", stdin=content, config=config).stdout)
    assert told[0]["action"] == action and told[0]["verdict"]["advice"] == "nothing to do"
