"""Content in chunks (RFC 3030), as the server's engine takes it."""

from __future__ import annotations

import pytest

from copper_kite.smtp import events
from copper_kite.smtp.extensions import Offers
from copper_kite.smtp.limits import Limits
from copper_kite.smtp.replies import Reply
from tests.smtp.test_server import ENVELOPE, HELLO, ready


@pytest.mark.parametrize("step", [0, 1, 2, 7])
def test_a_message_in_chunks(step: int) -> None:
    """S-26: joined as they are, dots and all; also where a chunk ends between CR and LF."""
    talk = ready()
    octets = ENVELOPE + b"BDAT 5\r\n.one\rBDAT 0\r\nBDAT 7\r\n\n.\r\n..xBDAT 0 LAST\r\nNOOP\r\n"
    heard = talk.say(octets, step).decode().splitlines()
    assert [line[:9] for line in heard] == ["250 2.1.0", "250 2.1.5", *["250 2.0.0"] * 5]
    assert talk.content() == b".one\r\n.\r\n..x\r\n"  # with the line end that it lacked
    ended = [event for event in talk.seen if isinstance(event, events.ContentEnded)]
    assert [(event.size, event.ascii) for event in ended] == [(14, True)]


def test_a_refused_chunk_is_read_and_thrown_away() -> None:
    """S-27, W-12: what stands behind it is a command; what it holds is not."""
    talk = ready()
    chunk = b"RCPT TO:<v@x.example>\r\n"
    assert talk.codes(b"BDAT %d\r\n%sNOOP\r\n" % (len(chunk), chunk)) == ["503 5.5.1", "250 2.0.0"]
    talk = ready(limits=Limits())
    big = b"x" * 70 + b"\r\n"
    codes = talk.codes(ENVELOPE + b"BDAT 1440\r\n" + big * 20 + b"BDAT 72 LAST\r\n" + big + b"NOOP\r\n")
    assert codes == ["250 2.1.0", "250 2.1.5", "552 5.3.4", "503 5.5.1", "250 2.0.0"]
    assert not any(isinstance(event, events.ContentEnded) for event in talk.seen)
    assert talk.codes(ENVELOPE + b"BDAT 2 LAST\r\n\r\n") == ["250 2.1.0", "250 2.1.5", "250 2.0.0"]


def test_the_owner_may_refuse_the_first_chunk() -> None:
    """S-27: it is told behind the chunk, not before."""
    talk = ready(ChunksStarted=Reply(452, "4.3.1", "no room"))
    assert talk.codes(ENVELOPE + b"BDAT 3\r\n") == ["250 2.1.0", "250 2.1.5"]
    assert talk.codes(b"abcNOOP\r\n") == ["452 4.3.1", "250 2.0.0"]


def test_chunks_and_data_do_not_mix() -> None:
    """S-28."""
    talk = ready()
    assert talk.codes(ENVELOPE + b"BDAT 3\r\nabcDATA\r\n")[-1] == "503 5.5.1"
    assert talk.codes(b"BDAT 0 LAST\r\nBDAT 3\r\nabc") == ["250 2.0.0", "503 5.5.1"]
    assert talk.codes(ENVELOPE + b"BDAT 3\r\nabcRSET\r\nDATA\r\n")[-2:] == ["250 2.0.0", "503 5.5.1"]
    assert talk.codes(ENVELOPE + b"DATA\r\nx\r\n.\r\n")[-1] == "250 2.0.0"
    assert talk.codes(b"BDAT\r\nBDAT x\r\nBDAT 3 FIRST\r\nBDAT -1\r\n") == ["501 5.5.4"] * 4


@pytest.mark.parametrize("content", [b"a\nb\r\n", b"a\rb\r\n", b"a\0b\r\n", b"x" * 999 + b"\r\n"])
def test_chunks_are_checked_as_content_is(content: bytes) -> None:
    """W-03, W-07, W-11: also across chunks."""
    for cut in (0, 1, 2, len(content)):
        talk = ready(offers=Offers())
        head, tail = content[:cut], content[cut:]
        codes = talk.codes(ENVELOPE + b"BDAT %d\r\n%sBDAT %d LAST\r\n%s" % (len(head), head, len(tail), tail))
        assert "550 5.6.0" in codes or "554 5.6.0" in codes
        assert not any(isinstance(event, events.ContentEnded) for event in talk.seen)


def test_a_session_that_ends_in_a_chunk_leaves_nothing() -> None:
    """W-15, S-44: after RSET and EHLO, too."""
    talk = ready()
    talk.say(ENVELOPE + b"BDAT 5\r\nab")
    assert not any(isinstance(event, events.ContentEnded) for event in talk.seen)
    talk.say(b"cde" + HELLO)
    assert events.Reset() in talk.seen
    assert talk.codes(b"BDAT 0 LAST\r\n") == ["503 5.5.1"]
