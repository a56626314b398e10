"""Replies as values and as octets; rows C-05, C-06, C-07, S-03, W-17."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from copper_kite.errors import ProtocolViolation
from copper_kite.smtp.replies import MAX_REPLIES, MAX_REPLY_LINE, MAX_REPLY_LINES, Reply, ReplyReader


def hear(*portions: bytes) -> list[Reply]:
    reader, result = ReplyReader(), []
    for portion in portions:
        reader.feed(portion)
        while (reply := reader.next()) is not None:
            result.append(reply)
    return result


texts = st.text(st.characters(min_codepoint=32, max_codepoint=126), max_size=40).map(str.strip)


@given(st.sampled_from([211, 250, 354, 421, 450, 550]), st.lists(texts, min_size=1, max_size=4), st.integers(1, 7))
def test_a_reply_survives_the_wire_in_any_portions(code: int, lines: list[str], step: int) -> None:
    enhanced = "" if code == 354 else f"{str(code)[0]}.0.0"
    reply = Reply(code, enhanced, *lines)
    portions = [reply.wire[start : start + step] for start in range(0, len(reply.wire), step)]
    (heard,) = hear(*portions)
    assert (heard.code, heard.enhanced, heard.text) == (code, enhanced, reply.text)


def test_short_forms_count() -> None:
    """C-06."""
    assert [reply.code for reply in hear(b"250-a\r\n250 b\r\n250\r\n250-\r\n250 \r\n")] == [250, 250, 250]


def test_the_basic_code_decides_over_an_enhanced_one_of_another_class() -> None:
    """C-05."""
    (reply,) = hear(b"450 5.1.1 x\r\n")
    assert (reply.permanent, reply.enhanced, reply.text) == (False, "", "5.1.1 x")
    assert [reply.positive for reply in hear(b"299 a\r\n498 b\r\n598 c\r\n")] == [True, False, False]


@pytest.mark.parametrize(
    "words", [b"hello\r\n", b"25 ok\r\n", b"999 x\r\n", b"\0\1\2\r\n", b"250-a\r\n251 b\r\n", b"220x\r\n"]
)
def test_what_is_no_reply_is_the_peers_fault(words: bytes) -> None:
    with pytest.raises(ProtocolViolation):
        hear(words)


def test_endless_talk_is_cut() -> None:
    """C-07."""
    with pytest.raises(ProtocolViolation):
        hear(b"x" * 5000)
    with pytest.raises(ProtocolViolation):
        hear(b"250-x\r\n" * (MAX_REPLY_LINES + 1))
    with pytest.raises(ProtocolViolation):
        hear(b"250 x\r\n" * (MAX_REPLIES + 1))


def test_what_came_before_a_fault_still_counts() -> None:
    """The replies before what is none are given first; nothing behind it is."""
    reader = ReplyReader()
    reader.feed(b"250 a\r\n250-b\r\n250 b\r\nnonsense\r\n250 c\r\n")
    assert [str(reader.next()), str(reader.next())] == ["250 a", "250 b b"]
    for _ in range(2):
        with pytest.raises(ProtocolViolation):
            reader.next()
        reader.feed(b"250 d\r\n")


def test_our_lines_are_printable_and_short() -> None:
    """W-17: nothing that a client said can break out of its line."""
    wire = Reply(550, "5.7.1", "a\r\n250 ok\x1b[2J\u202e" + "x" * 1000).wire
    assert wire.count(b"\r\n") == 1 and wire.isascii() and len(wire) <= MAX_REPLY_LINE
    assert b"\x1b" not in wire


def test_every_line_of_a_reply_has_its_enhanced_code() -> None:
    """S-03."""
    assert Reply(550, "5.1.1", "a", "b").wire == b"550-5.1.1 a\r\n550 5.1.1 b\r\n"
