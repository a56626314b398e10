"""Headers, trace fields, mending, notices. Rows S-36, S-37, S-38, D-01 to D-06, D-13."""

from __future__ import annotations

import email
import email.policy
import email.utils

import pytest

from copper_kite.mail.header import scan_header
from copper_kite.mail.mend import mend_message
from copper_kite.mail.notice import NoticeRecipient, make_notice
from copper_kite.mail.readdress import complete_addresses, leave_under
from copper_kite.mail.received import format_date, protocol_word, received_field, received_from
from copper_kite.mail.sevenbit import to_seven_bits
from copper_kite.mail.submitted import Completion, header_length, take_in


def test_looking_into_a_header() -> None:
    header = scan_header(b"message-id:\r\n <a@b>\r\nSubject: x\r\nDate: d\r\n\r\nFrom: not a field\r\n")
    assert header.value(b"Message-ID") == "<a@b>"
    assert b"date" in header and b"From" not in header
    assert header.value(b"From") == ""
    assert scan_header(b"\r\nFrom: body\r\n").octets == b""


def test_received() -> None:
    """S-36, S-38, W-17."""
    first = received_from(
        hello="ticketing.example", client="192.0.2.7", user="", server="quay1.ternferries.example", protocol="ESMTP"
    )
    field = received_field(first, id="0D42EA4W00", recipients=["b@y.example"], at=1_800_000_000.0).decode()
    assert field.startswith(
        "Received: from ticketing.example ([192.0.2.7])\r\n\tby quay1.ternferries.example with ESMTP"
    )
    assert "id 0D42EA4W00" in field and "for <b@y.example>;" in field
    assert email.utils.parsedate_to_datetime(field.rpartition(";")[2].strip()).timestamp() == 1_800_000_000
    first = received_from(hello="h", client="", user="ev(il;)\r\n", server="s", protocol="SMTP")
    hidden = received_field(first, id="i", recipients=["a", "b"], at=0.0).decode()
    assert "for <" not in hidden, "nobody's blind copy shows"
    assert "(local socket user ev?il????)" in hidden


def test_protocol_words() -> None:
    """S-37."""
    words = [
        protocol_word(extended=e, secure=s, logged_in=a, utf8=u)
        for e, s, a, u in ((0, 0, 0, 0), (1, 0, 0, 0), (1, 1, 0, 0), (1, 1, 1, 0), (1, 0, 1, 0), (1, 1, 1, 1))
    ]
    assert words == ["SMTP", "ESMTP", "ESMTPS", "ESMTPSA", "ESMTPA", "UTF8SMTPSA"]


def mended(octets: bytes) -> bytes:
    return mend_message(octets, sender="root@t.example", message_id="1@t.example", at=0.0)


def test_mending() -> None:
    added = f"From: <root@t.example>\r\nDate: {format_date(0)}\r\nMessage-ID: <1@t.example>\r\n".encode()
    assert mended(b"Subject: x\n\nbody\n") == added + b"Subject: x\r\n\r\nbody\r\n"
    assert mended(b"just text: with colon\n") == added + b"\r\njust text: with colon\r\n"
    assert mended(b"\nbody") == added + b"\r\nbody\r\n"
    assert mended(b"Subject: only\n") == added + b"Subject: only\r\n\r\n"
    whole = b"From: a@x\r\nDate: d\r\nMESSAGE-ID: <m>\r\n\r\n.\r\n\x80\r\n"
    assert mended(whole) == whole


def notice(
    reply: str = "550 5.1.1 nobody", address: str = "b@y.example", status: str = "5.1.1", until: float | None = None,
    *, original: bytes = b"From: a@x.example\r\nSubject: hi\r\n", whole: bool = False, reverse_path: str = "a@x.example",
    envelope_id: str = "", orcpt: str = "", action: str = "failed",
) -> bytes:  # fmt: skip
    return make_notice(
        server="quay1.ternferries.example", postmaster="postmaster@ternferries.example", reverse_path=reverse_path,
        id="0D42EA4W01", original_id="0D42EA4W00", arrived=0.0, at=60.0,
        original=original, whole=whole, envelope_id=envelope_id,
        recipients=[NoticeRecipient(
            address=address, original=orcpt, action=action if until is None else "delayed", status=status,
            explanation="There is no such mailbox.", next_hop="out.example", reply=reply, until=until,
        )],
    )  # fmt: skip


def test_a_notice_is_a_report_of_three_parts() -> None:
    """D-01, D-04, D-05, D-06."""
    message = email.message_from_bytes(notice(), policy=email.policy.default)
    assert message.get_content_type() == "multipart/report"
    assert message.get_param("report-type") == "delivery-status"
    assert message["To"] == "<a@x.example>" or message["To"] == "a@x.example"
    assert message["Auto-Submitted"] == "auto-replied" and message["Date"] and message["Message-ID"]
    text, status, header = message.iter_parts()
    assert "could not send your message 0D42EA4W00" in text.get_content()
    groups = list(status.iter_parts()) if status.is_multipart() else []
    about, recipient = (dict(group.items()) for group in groups)
    assert about["Reporting-MTA"] == "dns; quay1.ternferries.example" and about["Arrival-Date"]
    assert recipient == {
        "Final-Recipient": "rfc822; b@y.example", "Action": "failed", "Status": "5.1.1",
        "Remote-MTA": "dns; out.example", "Diagnostic-Code": "smtp; 550 5.1.1 nobody",
    }  # fmt: skip
    assert header.get_content_type() == "text/rfc822-headers" and "Subject: hi" in header.get_payload()


def test_a_hostile_reply_breaks_nothing() -> None:
    """D-13."""
    octets = notice(reply="550 \r\n--notice-0D42EA4W01\r\n\r\nEvil: \x1b\xe9" + "x" * 100_000)
    assert octets.isascii() and max(map(len, octets.split(b"\r\n"))) <= 998
    message = email.message_from_bytes(octets, policy=email.policy.default)
    assert [part.get_content_type() for part in message.iter_parts()] == [
        "text/plain", "message/delivery-status", "text/rfc822-headers",
    ]  # fmt: skip


def test_without_a_reply_nobody_is_quoted() -> None:
    """D-06."""
    assert b"Diagnostic-Code" not in notice(reply="") and b"Remote-MTA" not in notice(reply="")


def test_what_was_asked_for_comes_back_as_it_was_meant() -> None:
    """D-04, D-05, D-12: only if it was given; ENVID and ORCPT without xtext."""
    octets = notice(envelope_id="a+b=c", orcpt="rfc822;B+2BC@y.example")
    assert (
        b"\r\nOriginal-Envelope-Id: a+b=c\r\n" in octets
        and b"\r\nOriginal-Recipient: rfc822; B+C@y.example\r\n" in octets
    )
    assert b"Original-" not in notice()


def test_the_whole_message_comes_back() -> None:
    """D-08: as it was, octets over 127 and all."""
    original = b"Subject: hi\r\n\r\nna\xc3\xafve\r\n"
    octets = notice(original=original, whole=True)
    assert b"Content-Type: message/rfc822\r\nContent-Transfer-Encoding: 8bit\r\n\r\n" + original in octets
    assert b"Your message is attached." in octets
    converted = to_seven_bits(octets)
    assert converted is not None and converted.isascii() and b"na=C3=AFve" in converted


def test_a_header_that_goes_back_has_an_end() -> None:
    octets = notice(original=b"X-A: " + b"y" * 70 + b"\r\n" + b"X-B: z\r\n" * 20_000)
    assert len(octets) < 70_000 and b"X-B: z\r\n\r\n--notice" in octets


def test_a_relayed_message_is_told_of_as_relayed() -> None:
    """D-10."""
    octets = notice("250 2.0.0 taken", status="2.0.0", action="relayed")
    assert (
        b"Subject: Relayed: " in octets and b"Action: relayed\r\nStatus: 2.0.0" in octets and b"delivered" not in octets
    )


def test_an_address_that_is_not_ascii_in_a_notice_that_is() -> None:
    """D-14: to a sender whose own address is ASCII, by whatever way it takes."""
    octets = notice(address="grå@y.example", original="Subject: grå\r\n".encode())
    assert octets.isascii() and b"Final-Recipient: utf-8; gr\\x{E5}@y.example\r\n" in octets
    message = email.message_from_bytes(octets, policy=email.policy.default)
    text, _, header = message.iter_parts()
    assert "grå@y.example" in text.get_content()
    assert header.get_content_type() == "message/global-headers" and b"U3ViamVjdDogZ3LDpQ0K" in header.as_bytes()


def test_a_notice_to_an_address_that_is_not_ascii() -> None:
    """D-14."""
    octets = notice(address="grå@y.example", original="Subject: grå\r\n".encode(), reverse_path="på@x.example")
    assert "To: <på@x.example>".encode() in octets and "Final-Recipient: utf-8; grå@y.example\r\n".encode() in octets
    assert (
        b"Content-Type: message/global-delivery-status" in octets and b"Content-Type: message/global-headers" in octets
    )
    assert "Subject: grå\r\n".encode() in octets


@pytest.mark.parametrize(
    ("reverse_path", "shown"),
    [("a@x.example", "utf-8; gr\\x{E5}@y.example"), ("på@x.example", "utf-8; grå@y.example")],
)
def test_an_original_recipient_that_is_not_ascii(reverse_path: str, shown: str) -> None:
    """RFC 6533 3: in either form it came in, as the notice can carry it."""
    for given in ("utf-8;grå@y.example", "utf-8;gr\\x{E5}@y.example", "UTF-8;gr\\x{E5}+40y.example"):
        octets = notice(orcpt=given, reverse_path=reverse_path)
        assert f"Original-Recipient: {given[:5]}; {shown[7:]}\r\n".encode() in octets


def test_a_late_message_is_told_of_as_delayed() -> None:
    """D-11: its action, a 4.y.z, and until when it is tried."""
    message = email.message_from_bytes(
        notice(reply="451 4.7.1 later", status="4.7.1", until=432000.0), policy=email.policy.default
    )
    assert message["Subject"] == "Not sent yet: your message 0D42EA4W00"
    text, status, _ = message.iter_parts()
    assert "has not been able yet to send" in text.get_content() and "06 Jan 1970" in text.get_content()
    _, recipient = (dict(group.items()) for group in status.iter_parts())
    assert recipient["Action"] == "delayed" and recipient["Status"] == "4.7.1"
    assert recipient["Will-Retry-Until"].startswith("Tue, 06 Jan 1970")


# --- addresses as they look outside ---------------------------------------------------------------------------------


INSIDE = {"root": "operator@ternferries.example", "crew": "all@crew.example"}
OUTSIDE = {"root": "duty@ternferries.example", "tidewatch": "tide-alerts@ternferries.example"}


@pytest.mark.parametrize(
    ("given", "made"),
    [
        (b"From: root\r\n", b"From: duty@ternferries.example\r\n"),
        (b'FROM:"Cron, the Daemon" <root>\r\n', b'FROM:"Cron, the Daemon" <duty@ternferries.example>\r\n'),
        (b"From: =?utf-8?q?P=C3=A5?=\r\n <tidewatch>\r\n", b"From: =?utf-8?q?P=C3=A5?=\r\n <tide-alerts@ternferries.example>\r\n"),
        (b"Reply-To: root\r\nSender: root\r\n", b"Reply-To: duty@ternferries.example\r\nSender: duty@ternferries.example\r\n"),
        (b"From: ana@passenger.example\r\n", b"From: ana@passenger.example\r\n"),
        (b"From: root, tidewatch\r\n", b"From: duty@ternferries.example, tide-alerts@ternferries.example\r\n"),
        (b"From: (a (comment)) root\r\n", b"From: (a (comment)) duty@ternferries.example\r\n"),
        (b"From: root (Cron Daemon)\r\n", b"From: duty@ternferries.example (Cron Daemon)\r\n"),
        (b"To: root\r\nX-From: root\r\n", b"To: operator@ternferries.example\r\nX-From: root\r\n"),
        (b'Cc: "root, a" <crew>,\r\n root;\r\nResent-To: crew: crew, b@x.example;\r\n',
         b'Cc: "root, a" <all@crew.example>,\r\n operator@ternferries.example;\r\nResent-To: crew: all@crew.example, b@x.example;\r\n'),
    ],
)  # fmt: skip
def test_local_authors_get_their_outward_address(given: bytes, made: bytes) -> None:
    body = b"\r\nFrom: root\r\n"
    assert complete_addresses(given + body, OUTSIDE.get, INSIDE.get) == made + body


@pytest.mark.parametrize(
    ("given", "made"),
    [
        (b"From: Tide <t@x.example>\r\n", b"From: Tide <out@y.example>\r\nReply-To: Tide <t@x.example>\r\n"),
        (b"From: t@x.example\r\nReply-To: r@x.example\r\n", b"From: t <out@y.example>\r\nReply-To: r@x.example\r\n"),
        (b"From: a.b@x.example\r\n", b'From: "a.b" <out@y.example>\r\nReply-To: a.b@x.example\r\n'),
        (b"From: a@x.example, b@x.example\r\nSender: a@x.example\r\n",
         b"From: a <out@y.example>\r\nReply-To: a@x.example, b@x.example\r\n"),
        (b"From: =?utf-8?q?P=C3=A5?=\r\n <t@x.example>\r\nSender: keep@y.example\r\n",
         b"From: =?utf-8?q?P=C3=A5?= <out@y.example>\r\nReply-To: =?utf-8?q?P=C3=A5?= <t@x.example>\r\nSender: keep@y.example\r\n"),
        (b"From: K <keep@y.example>\r\nSender: s@x.example\r\n", b"From: K <keep@y.example>\r\nSender: s@x.example\r\n"),
        (b"Subject: none\r\n", b"Subject: none\r\n"),
    ],
)  # fmt: skip
def test_mail_leaves_under_the_sender_that_is_taken(given: bytes, made: bytes) -> None:
    body = b"\r\nFrom: t@x.example\r\n"
    assert leave_under(given + body, "out@y.example", lambda a: a.endswith("@y.example")) == made + body


# --- a submission on its way in -------------------------------------------------------------------------------------


OURS = b"Received: from x ([192.0.2.1])\r\n\tby y with ESMTP id z;\r\n\tMon\r\n"
DATED = f"Date: {format_date(0)}\r\n".encode()
NAMED = b"Message-ID: <0D42EA4W00@t.example>\r\n"
SIGNED = b"From: <a@x.example>\r\n"


def submitted(content: bytes) -> tuple[bytes, str, int]:
    completion = Completion(OUTSIDE.get, INSIDE.get)
    taken = take_in(
        content, OURS, completion=completion, author="a@x.example", server="t.example", id="0D42EA4W00", at=0.0
    )
    assert taken.content.startswith(OURS) and taken.start == len(OURS)
    return taken.content[len(OURS) :], taken.message_id, taken.hops


@pytest.mark.parametrize(
    ("given", "made"),
    [
        (b"Subject: x\r\n\r\nb\r\n", DATED + NAMED + SIGNED + b"Subject: x\r\n\r\nb\r\n"),  # S-40
        (b"date: d\r\n\r\nMessage-ID: <body>\r\n", NAMED + SIGNED + b"date: d\r\n\r\nMessage-ID: <body>\r\n"),
        (b"MESSAGE-ID:\r\n <m@x>\r\n\r\nb\r\n", DATED + SIGNED + b"MESSAGE-ID:\r\n <m@x>\r\n\r\nb\r\n"),
        (b"Date: d\r\nMessage-ID: <m@x>\r\nTo: a,\r\n b\r\n\r\n", SIGNED + b"Date: d\r\nMessage-ID: <m@x>\r\nTo: a,\r\n b\r\n\r\n"),
        (b"just text\r\n", DATED + NAMED + SIGNED + b"\r\njust text\r\n"),
        (b"just text\r\nBcc: b\r\n\r\nmore\r\n", DATED + NAMED + SIGNED + b"\r\njust text\r\nBcc: b\r\n\r\nmore\r\n"),
        (b"just text\r\nFrom: me, too\r\n", DATED + NAMED + SIGNED + b"\r\njust text\r\nFrom: me, too\r\n"),
        (b"\r\nbody\r\n", DATED + NAMED + SIGNED + b"\r\nbody\r\n"),
        (b"", DATED + NAMED + SIGNED + b"\r\n"),
        (b"Date: d\r\nMessage-ID: <m@x>\r\nFrom: root\r\n\r\n", b"Date: d\r\nMessage-ID: <m@x>\r\nFrom: duty@ternferries.example\r\n\r\n"),
        (b"Date: d\r\nBCC: a@x.example,\r\n b@x.example\r\nMessage-ID: <m@x>\r\nResent-Bcc: c\r\nBccx: d\r\n\r\nBcc: e\r\n",  # S-41
         SIGNED + b"Date: d\r\nMessage-ID: <m@x>\r\nBccx: d\r\n\r\nBcc: e\r\n"),
        (b"Bcc: a@x.example\r\n\r\nb\r\n", DATED + NAMED + SIGNED + b"\r\nb\r\n"),
        (b"Date : d\r\nMessage-ID\t: <m@x>\r\nBcc : e\r\nSubject: a :b\r\n\r\n", SIGNED + b"Date : d\r\nMessage-ID\t: <m@x>\r\nSubject: a :b\r\n\r\n"),
    ],
)  # fmt: skip
def test_what_a_submission_gets_and_loses(given: bytes, made: bytes) -> None:
    """S-40, S-41, S-42."""
    content, message_id, _ = submitted(given)
    assert content == made
    assert message_id == ("<m@x>" if b"<m@x>" in given else "<0D42EA4W00@t.example>")


def test_the_servers_that_a_message_has_passed_are_counted() -> None:
    """S-39."""
    assert submitted(b"Received: a\r\n\tReceived: folded\r\nRECEIVED: b\r\n\r\nReceived: body\r\n")[2] == 2


@pytest.mark.parametrize(
    ("content", "length"),
    [(b"", None), (b"\r\n", 0), (b"no header\r\n\r\n", 0), (b"A: b\r\n", None), (b"A: b\r\n\r\nc", 6), (b"A: b", None)],
)
def test_how_long_a_header_is(content: bytes, length: int | None) -> None:
    assert header_length(content) == length
