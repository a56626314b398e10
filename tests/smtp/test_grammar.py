"""Paths, parameters and names; rows S-12, S-13, S-14, S-22, S-23."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from copper_kite.smtp.grammar import (
    Syntax,
    decode_xtext,
    is_mailbox,
    parse_command_path,
    parse_hello_name,
    split_mailbox,
)

LONG_DOMAIN = ".".join(["d" * 60] * 3) + ".example"


@pytest.mark.parametrize(
    ("text", "path", "parameters"),
    [
        ("<>", "", {}),
        ("<a@example.com>", "a@example.com", {}),
        (" <A.b+c@Example.com>", "A.b+c@Example.com", {}),
        ("<a@example.com> sIzE=10 BODY=8bitmime SMTPUTF8", "a@example.com",
         {"SIZE": "10", "BODY": "8bitmime", "SMTPUTF8": None}),
        ('<"a b\\"c@d>,x"@example.com>', '"a b\\"c@d>,x"@example.com', {}),
        ("<@a.example,@b.example:u@c.example>", "u@c.example", {}),
        ("<u@[192.0.2.1]>", "u@[192.0.2.1]", {}),
        ("<u@[IPv6:2001:db8::1]>", "u@[IPv6:2001:db8::1]", {}),
        ("<postmaster>", "postmaster", {}),
        ("<a..b@example.com>", '"a..b"@example.com', {}),
        ("<.a.@example.com>", '".a."@example.com', {}),
        ("<søren@færge.example>", "søren@færge.example", {}),
        (f"<{'l' * 64}@{LONG_DOMAIN[:180]}e>", f"{'l' * 64}@{LONG_DOMAIN[:180]}e", {}),
    ],
)  # fmt: skip
def test_good_paths(text: str, path: str, parameters: dict[str, str | None]) -> None:
    """S-12, S-13, S-14, S-22, S-23."""
    command = parse_command_path(text)
    assert (command.path, dict(command.parameters)) == (path, parameters)


@pytest.mark.parametrize(
    "text",
    [
        "a@example.com", "<a@>", "<@>", "<b@example.com", "<a@b c>", "<a b@example.com>", "<..@>", "<.a@>", "<a@-x.example>", "<a@example..com>", "<u@[300.1.1.1]>", "<u@[2001:db8::1]>",
        "<a@example.com>SIZE=1", "<a@example.com> SIZE=", "<a@example.com> A=1 A=2", "<a@example.com> =x",
        f"<{'l' * 65}@example.com>", f"<a@{'d.' * 128}example>", "<a@example.com\r\n>",
    ],
)  # fmt: skip
def test_bad_paths(text: str) -> None:
    """S-12, S-14, S-23."""
    with pytest.raises(Syntax):
        parse_command_path(text)


@given(st.text(max_size=60))
def test_anything_else_is_a_syntax_error_and_nothing_worse(text: str) -> None:
    try:
        path = parse_command_path(text).path
    except Syntax:
        return
    assert "\r" not in path and "\n" not in path and "\0" not in path


def test_the_last_at_splits() -> None:
    """S-13."""
    assert split_mailbox('"a@b"@c.example') == ('"a@b"', "c.example")
    assert split_mailbox("root") == ("root", "")
    assert split_mailbox('"a@b"') == ('"a@b"', "")


def test_hello_names() -> None:
    """S-02, S-23, W-17."""
    for good in ("a", "WIN_BOX", "mail.example", "[192.0.2.1]", "[IPv6:2001:db8::1]"):
        assert parse_hello_name(good) == good
    for bad in ("", "a b", "a)(b", "a;b", "\x1b[2J", "[300.1.1.1]", "x" * 300):
        with pytest.raises(Syntax):
            parse_hello_name(bad)


def test_mailboxes_need_a_domain() -> None:
    assert is_mailbox("duty@crew.example")
    assert not is_mailbox("duty") and not is_mailbox("") and not is_mailbox("a@b@c")


def test_xtext() -> None:
    """D-12, A-17."""
    assert decode_xtext("a+2Bb+3Dc") == "a+b=c"
    for bad in ("+2b", "+", "a=b"):
        with pytest.raises(Syntax):
            decode_xtext(bad)
