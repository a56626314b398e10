"""What an attempt carries: what of a message leaves, and that nothing of it stays behind."""

from __future__ import annotations

import gc
import sys

import pytest

from copper_kite.errors import ContentUnreadable
from copper_kite.relay.job import Job, SenderRule
from copper_kite.relay.outgoing import NextHop, Outgoing, prepare
from copper_kite.smtp.extensions import Capabilities
from copper_kite.smtp.transaction import Envelope
from copper_kite.store import Message, Recipient

CONTENT = b"From: a@x.example\r\n\r\nbody\r\nend\r\n"
MESSAGE = Message(7, 0.0, 9.0, "a@x.example", len(CONTENT), False, False, "<m>", "l", "unix", "h", "", "ESMTP")


def job(octets: bytes | None, *portions: bytes) -> Job:
    recipients = [Recipient(7, 1, "r@y.example"), Recipient(7, 2, "s@y.example", esmtp_parameters="NOTIFY=NEVER")]
    return Job(MESSAGE, recipients, "crew", None, octets, lambda id: iter(portions))


def leaving(carried: Job, rule: SenderRule | None) -> Outgoing:
    return prepare(carried, NextHop(Capabilities({}), proven=True, sender_rule=rule))


def test_what_was_carried_is_let_go_at_once() -> None:
    """Content in memory goes with its job, and does not wait until somebody looks for circles."""
    octets = bytes(bytearray(CONTENT))  # which nobody else holds
    before = sys.getrefcount(octets)
    gc.disable()
    try:
        for sender in ("", "outside@z.example"):
            carried = job(octets)
            outgoing = leaving(carried, SenderRule(sender) if sender else None)
            assert carried.envelope.recipients and b"".join(outgoing.content()).endswith(b"end\r\n")
            assert sys.getrefcount(octets) > before
            del carried, outgoing
            assert sys.getrefcount(octets) == before
    finally:
        gc.enable()


def test_its_envelope_and_content() -> None:
    carried = job(None, CONTENT[:25], CONTENT[25:])
    asked = ("", "NOTIFY=NEVER")
    assert carried.envelope == Envelope("a@x.example", ("r@y.example", "s@y.example"), 32, False, False, "", asked)
    assert list(carried.content()) == [CONTENT[:25], CONTENT[25:]]
    ours, theirs = carried.divided(["s@y.example"])
    assert (ours.envelope.recipients, ours.envelope.rcpt_parameters) == (("r@y.example",), ())
    assert (theirs.envelope.recipients, theirs.envelope.rcpt_parameters) == (("s@y.example",), ("NOTIFY=NEVER",))


def test_under_another_sender_only_the_header_is_another() -> None:
    outgoing = leaving(job(None, CONTENT[:25], CONTENT[25:]), SenderRule("outside@z.example", ("y.example",)))
    assert outgoing.envelope.reverse_path == "outside@z.example"
    left = b"".join(outgoing.content())
    assert len(left) == outgoing.envelope.size
    assert b"<outside@z.example>" in left and left.endswith(b"\r\n\r\nbody\r\nend\r\n")
    assert b"".join(outgoing.content()) == left, "it can go once more"


def test_content_that_cannot_be_read() -> None:
    def unreadable(id: int) -> list[bytes]:
        raise ContentUnreadable(id, "gone")

    carried = Job(MESSAGE, [Recipient(7, 1, "r@y.example")], "crew", None, None, unreadable)
    assert carried.beginning() == b""
    with pytest.raises(ContentUnreadable):
        leaving(carried, SenderRule("outside@z.example"))
