"""Addresses in address lists, as they are met."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from copper_kite.mail.addresses import mailboxes, replace_addresses
from copper_kite.mail.readdress import authors


@pytest.mark.parametrize(
    ("text", "addresses", "names"),
    [
        ("a@x.example", ["a@x.example"], [""]),
        (" Ana Silva <ana@x.example> , b@x.example", ["ana@x.example", "b@x.example"], ["Ana Silva", ""]),
        ('"Silva, Ana" <ana@x.example>', ["ana@x.example"], ['"Silva, Ana"']),
        ("root (Cron Daemon)", ["root"], [""]),
        ("(a (comment, with) \\) brackets) root", ["root"], [""]),
        ('"a b"@x.example', ['"a b"@x.example'], [""]),
        ('N <"a>b"@x.example>', ['"a>b"@x.example'], ["N"]),
        ("<@r.example,@s.example:a@x.example>", ["a@x.example"], [""]),
        ("a @ x.example", ["a@x.example"], [""]),
        ("crew: a@x.example, b@x.example; c@x.example", ["a@x.example", "b@x.example", "c@x.example"], ["", "", ""]),
        ("undisclosed-recipients:;", [], []),
        ("u@[IPv6:2001:db8::1], v@[192.0.2.1]", ["u@[IPv6:2001:db8::1]", "v@[192.0.2.1]"], ["", ""]),
        ("Cron Daemon", ["Cron Daemon"], [""]),
        ("<>", [""], [""]),
        ("a@x.example <b@x.example>", ["b@x.example"], ["a@x.example"]),
        ("a\r\n <b@x.example>", ["b@x.example"], ["a"]),
        ("", [], []),
        ('"never closed <a@x.example>', ['"never closed <a@x.example>'], [""]),
        ("(never closed <a@x.example>", [], []),
    ],
)
def test_what_is_an_address_and_what_is_its_name(text: str, addresses: list[str], names: list[str]) -> None:
    assert [mailbox.address for mailbox in mailboxes(text)] == addresses
    assert [mailbox.name for mailbox in mailboxes(text)] == names


@given(st.text(alphabet='ab@.,;:<>()"\\ \r\n[]', max_size=60))
def test_only_the_addresses_change(text: str) -> None:
    """Each stands where it is said to stand; and nothing is changed by changing nothing."""
    assert replace_addresses(text, lambda address: None) == text
    place = 0
    for mailbox in mailboxes(text):
        assert place <= mailbox.start <= mailbox.end <= len(text)
        place = mailbox.end
    assert len(mailboxes(replace_addresses(text, lambda address: "z"))) == len(mailboxes(text))


@pytest.mark.parametrize(
    "octets",
    [b"(" * 50_000, b'"' * 50_000, b'<"' * 25_000, b"a," * 25_000, b"\\" * 50_000, b"[" * 50_000, b"<@" * 25_000],
)
def test_no_text_takes_long(octets: bytes) -> None:
    """Linear in its length: ten times as long would take minutes otherwise."""
    assert isinstance(authors(b"From: " + octets * 3 + b"\r\n"), list)


def test_the_authors_of_a_header() -> None:
    """S-35: in every From and Sender there is, also where there is no address."""
    header = (
        b"From: a@x.example (b@x.example)\r\nTo: c@x.example\r\nSENDER :\r\n D <d@x.example>\r\nFrom: nobody at all\r\n"
    )
    assert authors(header) == ["a@x.example", "d@x.example", "nobody at all"]
