"""Parameters behind MAIL and RCPT, and limits, as the server's engine takes them."""

from __future__ import annotations

import pytest

from copper_kite.smtp import events
from copper_kite.smtp.extensions import Offers
from copper_kite.smtp.limits import Limits
from tests.smtp.test_server import ENVELOPE, HELLO, Talk, ready


@pytest.mark.parametrize(
    ("parameters", "code"),
    [
        (b"NOTIFY=SUCCESS,DELAY ORCPT=rfc822;b@example.com", "250 2.1.5"),
        (b"notify=never", "250 2.1.5"),
        (b"NOTIFY=NEVER,FAILURE", "501 5.5.4"),
        (b"NOTIFY=SUCCESS,SUCCESS", "501 5.5.4"),
        (b"NOTIFY=", "501 5.5.4"),
        (b"NOTIFY=FAILURE NOTIFY=DELAY", "501 5.5.4"),
        (b"ORCPT=b@example.com", "501 5.5.4"),
        (b"ORCPT=rfc822;b+2b@example.com", "501 5.5.4"),
        (b"ORCPT=rfc822;" + b"b" * 501, "501 5.5.4"),
        (b"FOO", "555 5.5.4"),
    ],
)
def test_what_is_asked_for_a_recipient(parameters: bytes, code: str) -> None:
    """S-29, S-11."""
    talk = ready()
    talk.say(b"MAIL FROM:<a@x.example>\r\n")
    assert talk.codes(b"RCPT TO:<b@y.example> " + parameters + b"\r\n") == [code]


@pytest.mark.parametrize(
    ("orcpt", "with_utf8", "without"),
    [
        ("utf-8;grå@y.example", "250 2.1.5", "501 5.5.4"),
        ("utf-8;gr\\x{E5}@y.example", "250 2.1.5", "250 2.1.5"),
        ("utf-8;gr+40å", "250 2.1.5", "501 5.5.4"),
        ("utf-8;grå+4", "501 5.5.4", "501 5.5.4"),
        ("rfc822;grå@y.example", "501 5.5.4", "501 5.5.4"),
    ],
)
def test_an_original_recipient_that_is_not_ascii(orcpt: str, with_utf8: str, without: str) -> None:
    """RFC 6533 3: as it is where SMTPUTF8 was said, else escaped."""
    for parameter, code in ((b" SMTPUTF8", with_utf8), (b"", without)):
        talk = ready()
        talk.say(b"MAIL FROM:<a@x.example>" + parameter + b"\r\n")
        assert talk.codes(f"RCPT TO:<b@y.example> ORCPT={orcpt}\r\n".encode()) == [code]


def test_what_is_asked_for_is_kept_as_it_was_written() -> None:
    """D-09: it goes on byte-identical."""
    talk = ready()
    talk.say(b"MAIL FROM:<a@x.example> SIZE=3 ENVID=a+2Bb RET=hdrs\r\n")
    talk.say(b"RCPT TO:<b@y.example> ORCPT=rfc822;B+2B@y.example NOTIFY=Delay\r\n")
    assert talk.seen[1] == events.MailFrom("a@x.example", 3, False, False, "ENVID=a+2Bb RET=hdrs")
    assert talk.seen[2] == events.RecipientTo("b@y.example", "ORCPT=rfc822;B+2B@y.example NOTIFY=Delay")


def test_what_is_withheld_has_no_parameters() -> None:
    """S-11."""
    talk = ready(offers=Offers(withheld=frozenset({"DSN", "CHUNKING"})))
    assert talk.codes(b"MAIL FROM:<a@x.example> RET=FULL\r\n" + ENVELOPE + b"BDAT 3 LAST\r\n")[-1] == "502 5.5.1"
    assert talk.codes(b"RSET\r\nMAIL FROM:<a@x.example> RET=FULL\r\n") == ["250 2.0.0", "555 5.5.4"]


def test_tls_for_the_whole_way_is_offered_under_tls_alone() -> None:
    """T-15."""
    talk = Talk()
    assert b"REQUIRETLS" not in talk.say(HELLO)
    talk.say(b"STARTTLS\r\n")
    talk.engine.tls_established()
    assert b"REQUIRETLS" in talk.say(HELLO)
    assert talk.codes(b"MAIL FROM:<a@x.example> REQUIRETLS=1\r\nMAIL FROM:<a@x.example> REQUIRETLS\r\n") == [
        "501 5.5.4", "250 2.1.0",
    ]  # fmt: skip
    assert talk.seen[-1] == events.MailFrom("a@x.example", None, False, False, "REQUIRETLS")


def test_the_limit_of_recipients_is_named_and_kept() -> None:
    """S-15, S-30."""
    talk = Talk(limits=Limits(recipients=100))
    assert b"250-LIMITS RCPTMAX=100\r\n" in talk.say(HELLO)
    talk.say(b"MAIL FROM:<a@x.example>\r\n")
    codes = talk.codes(b"".join(b"RCPT TO:<b%d@y.example>\r\n" % number for number in range(101)))
    assert codes == ["250 2.1.5"] * 100 + ["452 4.5.3"]
    assert talk.codes(b"DATA\r\nx\r\n.\r\n") == ["354", "250 2.0.0"]


def test_the_limit_of_messages_is_named_and_kept() -> None:
    """S-30."""
    talk = Talk(limits=Limits(messages=2))
    assert b"250-LIMITS RCPTMAX=1000 MAILMAX=2\r\n" in talk.say(HELLO)
    assert talk.codes((ENVELOPE + b"DATA\r\nx\r\n.\r\n") * 2)[-1] == "250 2.0.0"
    assert talk.codes(b"MAIL FROM:<a@x.example>\r\n") == ["421 4.7.0"]
