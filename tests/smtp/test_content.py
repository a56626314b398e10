"""Content in both directions; rows W-02, W-03, W-05, W-06, W-07, W-11, S-16, C-11."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from copper_kite.smtp.content import MAX_TEXT_LINE, ContentReader, Fault, stuff


def read(wire: bytes, step: int = 0, limit: int = 0) -> tuple[bytes, bytes | None, ContentReader]:
    reader, out, rest = ContentReader(limit), b"", None
    for start in range(0, len(wire), step or len(wire)):
        portion, rest = reader.feed(wire[start : start + (step or len(wire))])
        out += portion
        if rest is not None:
            rest += wire[start + (step or len(wire)) :]
            break
    return out, rest, reader


lines = st.lists(st.sampled_from([b"", b".", b"..", b".x", b"text", b"a.b", b"\x80\xff", b"."]), max_size=12)


@given(lines, st.integers(1, 9))
def test_what_is_stuffed_comes_back_however_it_is_cut(parts: list[bytes], step: int) -> None:
    message = b"".join(line + b"\r\n" for line in parts)
    wire = stuff(message, line_start=True) + b".\r\n" + b"NOOP\r\n"
    out, rest, reader = read(wire, step)
    assert (out, rest, reader.fault) == (message, b"NOOP\r\n", None)
    assert reader.size == len(message)


@pytest.mark.parametrize(
    "end",
    [b"\n.\n", b"\n.\r\n", b"\r\n.\n", b"\r.\r", b"\r\n.\r", b"\r.\r\n", b"\n.\r", b"\r\n.\r\r\n", b"\r\n\0.\r\n"],
)
@pytest.mark.parametrize("step", [0, 1, 2, 3])
def test_only_the_true_end_ends_content_and_the_others_are_refused(end: bytes, step: int) -> None:
    """W-02, W-03: what some other program might take for the end is read over, and the message is at fault."""
    wire = b"text" + end + b"MAIL FROM:<evil@x.test>\r\n.\r\n"
    _, rest, reader = read(wire, step)
    assert rest == b""
    assert reader.fault in (Fault.BARE_LINE_END, Fault.NUL)


def test_empty_content_ends_at_once() -> None:
    """W-05: the CR LF of the DATA line counts."""
    for step in (0, 1, 2):
        assert read(b".\r\nQUIT\r\n", step)[:2] == (b"", b"QUIT\r\n")


def test_one_leading_dot_goes() -> None:
    """W-06."""
    assert read(b"..\r\n...x\r\n.x\r\na.b\r\n.\r\n")[0] == b".\r\n..x\r\nx\r\na.b\r\n"


@pytest.mark.parametrize("step", [0, 1, 7, 500, 1000])
@pytest.mark.parametrize(("length", "fault"), [(MAX_TEXT_LINE, None), (MAX_TEXT_LINE + 1, Fault.LONG_LINE)])
@pytest.mark.parametrize("before", [b"", b"short\r\n" * 3])
def test_lines_of_998_octets_are_the_longest(length: int, fault: Fault | None, step: int, before: bytes) -> None:
    """S-16, W-11: also when the line starts with a stuffed dot, and wherever it is cut."""
    message = before + b"." + b"x" * (length - 1) + b"\r\nend\r\n"
    out, rest, reader = read(stuff(message, line_start=True) + b".\r\n", step)
    assert rest == b""
    assert reader.fault is fault
    if fault is None:
        assert out == message


def test_over_the_limit_it_is_read_to_its_end_and_refused() -> None:
    """S-18: stuffed dots and the end do not count."""
    message = b".1234567\r\n"
    wire = stuff(message, line_start=True) + b".\r\nNOOP\r\n"
    assert read(wire, 3, limit=len(message))[2].fault is None
    _, rest, reader = read(wire, 3, limit=len(message) - 1)
    assert (rest, reader.fault) == (b"NOOP\r\n", Fault.TOO_LARGE)


def test_a_faulty_flood_costs_no_memory() -> None:
    reader = ContentReader(limit=1000)
    for _ in range(200):
        portion, rest = reader.feed(b"x" * 10000)
        assert rest is None
    assert portion == b""
    assert reader.fault is not None
