"""Header fields made ASCII: what they say stays the same, by Python's reading of them."""

from __future__ import annotations

import email
import email.policy
import re
from email.header import decode_header, make_header
from email.message import EmailMessage

import pytest
from hypothesis import given
from hypothesis import strategies as st

from copper_kite.mail.content_type import parse_content_type
from copper_kite.mail.encoded import ascii_header


def read(header: bytes) -> EmailMessage:
    result = email.message_from_bytes(header + b"\r\n", policy=email.policy.default)
    assert isinstance(result, EmailMessage)
    return result


def made(header: str) -> EmailMessage:
    octets = ascii_header(header.encode())
    assert octets is not None and octets.isascii()
    assert all(len(word) <= 75 for word in re.findall(rb"=\?\S*\?=", octets)), "RFC 2047 2"
    if header.startswith("Subject"):
        assert max(map(len, octets.split(b"\r\n"))) <= 76
    return read(octets)


@given(st.text(st.characters(exclude_categories=("Cc", "Cs", "Zl", "Zp")), min_size=1, max_size=200))
def test_any_subject_survives(text: str) -> None:
    """RFC 2047: words of 75 characters at most, no character of several octets cut in two."""
    text = " ".join(("é" + text).split())
    assert made(f"Subject: {text}\r\n")["Subject"] == text


@given(st.text(st.characters(categories=("L", "N")), min_size=1, max_size=60))
def test_any_name_survives(name: str) -> None:
    result = made(f"To: {name}ø <a@x.example>, b@x.example\r\n")
    assert [address.addr_spec for address in result["To"].addresses] == ["a@x.example", "b@x.example"]
    # By the older of the library's two readers: the newer one puts a blank between the words of a phrase.
    octets = ascii_header(f"To: {name}ø <a@x.example>\r\n".encode()) or b""
    raw = email.message_from_bytes(octets + b"\r\n")["To"]
    assert str(make_header(decode_header(raw))).replace("  ", " ") == f"{name}ø <a@x.example>"


def test_names_comments_groups_and_parameters() -> None:
    result = made(
        'From: "Åse \\"B\\"" Ödegård<ase@x.example> (på vakt)\r\nTo: Besättning: a@x.example, Ö <b@x.example>;\r\n'
        'Content-Type: text/plain; name="båt.txt"; charset=utf-8\r\nX-Plain: as it is\r\n'
    )
    assert result["From"].addresses[0].display_name == 'Åse "B" Ödegård'
    assert result["To"].groups[0].display_name == "Besättning"
    assert [address.display_name for address in result["To"].addresses] == ["", "Ö"]
    assert result.get_filename() == "båt.txt" and result.get_content_charset() == "utf-8"
    assert result["X-Plain"] == "as it is"


def test_what_is_not_utf8_is_labelled_so() -> None:
    """RFC 1428."""
    octets = ascii_header(b"Subject: \xe9t\xe9\r\n")
    assert octets is not None and octets.startswith(b"Subject: =?unknown-8bit?")


@pytest.mark.parametrize(
    "header", ["From: ö@x.example\r\n", "To: A <a@ö.example>\r\n", "Message-ID: <ö@x>\r\n", "Received: from ö\r\n",
               "To: a@x.example, ö\r\n", "no field ö\r\n", "Content-Type: text/ö\r\n"],
)  # fmt: skip
def test_what_only_smtputf8_can_carry_stays(header: str) -> None:
    """RFC 6531 3.2."""
    assert ascii_header(header.encode()) is None


@pytest.mark.parametrize(
    ("value", "name", "parameters"),
    [
        ("text/HTML; Charset=UTF-8", "text/html", {"charset": "UTF-8"}),
        ('multipart/mixed; boundary="a \\"b;c" (comment)', "multipart/mixed", {"boundary": 'a "b;c'}),
        ("x/y; name*=utf-8''b%C3%A5t; n=1", "x/y", {"name": "båt", "n": "1"}),
        ("x/y; name*=no\0such''b%C3%A5t; n*=rot13''%41", "x/y", {"name": "no\0such''b%C3%A5t", "n": "rot13''%41"}),
        ("x/y; name*=unicode_escape''%5Cud800", "x/y", {"name": "?"}),
        ("x/y; name*1=cd; name*0=ab", "x/y", {"name": "abcd"}),
        ("nonsense; charset=x", "text/plain", {"charset": "x"}),
        ("", "text/plain", {}),
        ("x/y; a=1; a=2; =3; b", "x/y", {"a": "1"}),
        ("x/y;" + " a=b;" * 20_000, "x/y", {"a": "b"}),
        ('x/y; a="' + "\\" * 20_000, "x/y", None),
    ],
)
def test_what_a_content_type_says(value: str, name: str, parameters: dict[str, str] | None) -> None:
    result = parse_content_type(value)
    assert result.name == name and (parameters is None or result.parameters == parameters)
