"""Messages made fit for 7 bits: what they say stays the same, whoever reads them."""

from __future__ import annotations

import email
import email.policy
from email.message import EmailMessage

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from copper_kite.mail.sevenbit import to_seven_bits

PLAIN = b"Subject: tide\r\nContent-Type: text/plain; charset=utf-8\r\n"


def read(octets: bytes) -> EmailMessage:
    result = email.message_from_bytes(octets, policy=email.policy.default)
    assert isinstance(result, EmailMessage)
    return result


def test_text_becomes_quoted_printable() -> None:
    """C-21: valid, with short lines, and the same text; the header stays but for its one field."""
    text = "Die Flut kommt höher als gedacht. " * 12 + "\r\n.\r\nEnde  \r\n"
    sent = to_seven_bits(PLAIN + b"Content-Transfer-Encoding: 8bit\r\nX-Tide: high\r\n\r\n" + text.encode())
    assert sent is not None and sent.isascii() and max(map(len, sent.split(b"\r\n"))) <= 76
    assert b"\n" not in sent.replace(b"\r\n", b"") and b"X-Tide: high\r\n" in sent
    result = read(sent)
    assert result["Content-Transfer-Encoding"] == "quoted-printable"
    assert result.get_payload(decode=True).replace(b"\r\n", b"\n") == text.encode().replace(b"\r\n", b"\n")


def test_a_message_that_says_nothing_about_itself_says_it_now() -> None:
    sent = to_seven_bits("Subject: x\r\n\r\nhöher\r\n".encode())
    assert sent is not None and sent.startswith(
        b"Subject: x\r\nMIME-Version: 1.0\r\nContent-Type: text/plain; charset=utf-8\r\n"
        b"Content-Transfer-Encoding: quoted-printable\r\n\r\n"
    )
    assert read(sent).get_content().strip() == "höher"
    sent = to_seven_bits(b"Content-Type: TEXT/html;\r\n format=flowed ;\r\n\r\n\xe9t\xe9\r\n")
    assert sent is not None and b"Content-Type: TEXT/html;\r\n format=flowed;\r\n charset=unknown-8bit\r\n" in sent


def test_messages_in_a_digest_are_messages() -> None:
    """RFC 2046 5.1.5, 5.2.1: what holds a message is not encoded, but the text in it is; a preamble means nothing."""
    digest = (
        "Subject: x\r\nContent-Type: multipart/digest; boundary=b\r\n\r\nprä\r\n--b\r\n\r\n"
        "Subject: one\r\n\r\nüber\r\n\r\n--b\r\nContent-Type: message/rfc822\r\n\r\n"
        "Subject: größer\r\nFrom: Jörg <j@x.example>\r\n\r\nplain\r\n--b--\r\nnachwort ü\r\n"
    )
    sent = to_seven_bits(digest.encode())
    assert sent is not None and sent.isascii() and b"\r\n\r\npr??\r\n--b" in sent and sent.endswith(b"nachwort ??\r\n")
    first, second = (part.get_content() for part in read(sent).iter_parts())
    assert first.get_content().strip() == "über" and first["MIME-Version"] == "1.0"
    assert second["Subject"] == "größer" and second["From"].addresses[0].display_name == "Jörg"
    assert sent.count(b"Content-Transfer-Encoding") == 1
    status = "Content-Type: multipart/report; boundary=b\r\n\r\n--b\r\nContent-Type: message/delivery-status\r\n\r\nX: ü\r\n--b--\r\n"
    assert to_seven_bits(status.encode()) is None
    sent = to_seven_bits(status.replace("message/delivery", "message/global-delivery").encode())
    assert sent is not None and b"Content-Transfer-Encoding: base64" in sent, "RFC 6532 3.7"


def test_each_part_by_itself() -> None:
    """Only those that need it, at any depth; the boundaries, and what is ASCII already, stay as they are."""
    inner = PLAIN + b"Content-Transfer-Encoding: 8bit\r\n\r\n" + "über\r\n".encode()
    ascii_part = b"Content-Type: text/plain\r\n\r\nplain  text\r\n"
    binary = (
        b"Content-Type: application/octet-stream\r\nContent-Transfer-Encoding: binary\r\n\r\n"
        + bytes(range(128, 256)) * 3
    )
    message = (
        b"Subject: x\r\nMIME-Version: 1.0\r\nContent-Transfer-Encoding: 8bit\r\n"
        b'Content-Type: multipart/mixed;\r\n boundary="a b"\r\n\r\nnobody\'s\r\n'
        b"--a b\r\n" + inner + b"\r\n--a b\r\n" + ascii_part + b"\r\n--a b\r\n" + binary + b"\r\n--a b\r\n"
        b"Content-Type: message/rfc822\r\n\r\n" + inner + b"\r\n--a b--\r\nafter\r\n"
    )
    sent = to_seven_bits(message)
    assert sent is not None and sent.isascii() and b"--a b\r\n" + ascii_part + b"\r\n--a b\r\n" in sent
    assert sent.endswith(b"\r\n--a b--\r\nafter\r\n") and b"Content-Transfer-Encoding: 7bit\r\n" in sent
    text, plain, octets, forwarded = read(sent).iter_parts()
    assert text.get_content().strip() == "über" and plain.get_content().splitlines() == ["plain  text"]
    assert octets.get_content() == bytes(range(128, 256)) * 3
    assert forwarded.get_content().get_content().strip() == "über"


@pytest.mark.parametrize(
    "message",
    [
        "Message-ID: <höher@x.example>\r\n\r\nx\r\n",
        "From: höher@x.example\r\n\r\nx\r\n",
        'Content-Type: multipart/signed; boundary="b"\r\n\r\n--b\r\n\r\nhöher\r\n--b--\r\n',
        "Content-Type: multipart/mixed\r\n\r\nhöher\r\n",
        'Content-Type: multipart/mixed; boundary="b"\r\n\r\n--b\r\n\r\nhöher\r\n',
        "Content-Transfer-Encoding: base64\r\n\r\nhöher\r\n",
    ],
)
def test_what_cannot_be_converted_right_is_not(message: str) -> None:
    assert to_seven_bits(message.encode()) is None


@settings(max_examples=60, deadline=None)
@given(st.text(st.characters(exclude_characters="\r\x00", exclude_categories=("Cs",)), min_size=1, max_size=300))
def test_any_text_survives(text: str) -> None:
    body = "".join(f"{line}\r\n" for line in f"é{text}".split("\n")).encode()
    sent = to_seven_bits(PLAIN + b"\r\n" + body)
    assert sent is not None and sent.isascii() and max(map(len, sent.split(b"\r\n"))) <= 76
    result = read(sent).get_payload(decode=True)
    assert isinstance(result, bytes) and result.replace(b"\r\n", b"\n") == body.replace(b"\r\n", b"\n")
