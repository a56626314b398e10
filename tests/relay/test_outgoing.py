"""What a next hop gets of a message that is not plain ASCII; rows C-20, C-21."""

from __future__ import annotations

from collections.abc import Iterator
from email import message_from_bytes

import pytest

from copper_kite.relay.job import Job, SenderRule
from copper_kite.relay.outgoing import NextHop, Outgoing, prepare
from copper_kite.smtp.client import Client
from copper_kite.smtp.extensions import Capabilities
from copper_kite.smtp.transaction import Transaction
from copper_kite.store import Message, Recipient
from copper_kite.words import Cause

BOTH = ("8BITMIME", "SMTPUTF8")
PLAIN = b"Subject: x\r\n\r\nhi\r\n"
HIGH_BODY = "Subject: x\r\n\r\nhöher\r\n".encode()
HIGH_HEADER = "Subject: höher\r\nFrom: Jörg <j@x.example>\r\n\r\nhi\r\n".encode()
HIGH_ADDRESS = "From: jörg@x.example\r\n\r\nhi\r\n".encode()
HIGH_PART = (
    b'Content-Type: multipart/mixed; boundary="b"\r\n\r\n--b\r\n'
    + 'Content-Disposition: attachment; filename="båt"\r\n\r\nhöher\r\n--b--\r\n'.encode()
)


def prepared(
    content: bytes, offered: tuple[str, ...], *recipients: str, sender: str = "a@x.example", utf8: bool = True
) -> Outgoing:
    message = Message(7, 0, 9, sender, len(content), not content.isascii(), utf8, "<m>", "l", "unix", "h", "", "ESMTP")
    named = [Recipient(7, n, address) for n, address in enumerate(recipients or ("r@y.example",), 1)]
    capabilities = Capabilities({name.partition(" ")[0]: tuple(name.split()[1:]) for name in offered})
    job = Job(message, named, "c", None, content, lambda id: (content,))
    return prepare(job, NextHop(capabilities, proven=True))


def says(found: Outgoing, offered: tuple[str, ...]) -> bytes:
    """The MAIL line for it."""
    client = Client()
    client.capabilities = Capabilities(dict.fromkeys(offered, ()))
    client.receive_data(b"220 x\r\n")
    client.next_reply()
    client.phase = client.phase.READY
    return Transaction(client, found.envelope).start().partition(b"\r\n")[0]


@pytest.mark.parametrize(
    ("content", "sender", "recipient", "mail"),
    [
        (PLAIN, "a@x.example", "r@y.example", b"MAIL FROM:<a@x.example>"),
        (HIGH_BODY, "a@x.example", "r@y.example", b"MAIL FROM:<a@x.example> BODY=8BITMIME"),
        (HIGH_HEADER, "a@x.example", "r@y.example", b"MAIL FROM:<a@x.example> BODY=8BITMIME SMTPUTF8"),
        (PLAIN, "a@x.example", "ö@y.example", b"MAIL FROM:<a@x.example> SMTPUTF8"),
        (PLAIN, "ö@x.example", "r@y.example", "MAIL FROM:<ö@x.example> SMTPUTF8".encode()),
    ],
)
def test_smtputf8_goes_with_what_needs_it_and_with_nothing_else(
    content: bytes, sender: str, recipient: str, mail: bytes
) -> None:
    """RFC 6531 3.2, 3.7.1: whatever the program said, since many say it always."""
    for utf8 in (True, False):
        result = prepared(content, BOTH, recipient, sender=sender, utf8=utf8)
        if utf8 or content is not PLAIN:  # an address that is not ASCII came with SMTPUTF8, or not at all
            assert result.stop is None and says(result, BOTH) == mail and b"".join(result.content()) == content


def test_each_recipient_is_judged_by_itself() -> None:
    """RFC 6531 3.2: one that is not ASCII does not fail the others."""
    result = prepared(PLAIN, ("8BITMIME",), "a@x.example", "ö@x.example", "b@x.example", "ü@x.example")
    assert result.apart == ("ö@x.example", "ü@x.example") and result.stop is None
    alone = prepared(PLAIN, ("8BITMIME",), "ö@x.example", "ü@x.example")
    assert alone.stop is not None and alone.stop.cause is Cause.NEEDS_SMTPUTF8 and alone.stop.reply is not None
    assert alone.stop.reply.enhanced == "5.6.7"
    assert prepared(PLAIN, BOTH, "a@x.example", "ö@x.example").apart == ()
    assert prepared(PLAIN, ("LIMITS RCPTMAX=2",), *(f"{n}@x.example" for n in range(5))).apart == (
        "2@x.example",
        "3@x.example",
        "4@x.example",
    )


@pytest.mark.parametrize("offered", [("8BITMIME",), ()])
def test_a_header_that_is_not_ascii_goes_encoded_or_not_at_all(offered: tuple[str, ...]) -> None:
    """RFC 2047, RFC 6531 3.2: never as it is to a next hop without SMTPUTF8."""
    result = prepared(HIGH_HEADER, offered)
    sent = b"".join(result.content())
    assert result.stop is None and sent.isascii() and result.envelope.size == len(sent) and b"=?utf-8?" in sent
    assert sent.endswith(b"\r\n\r\nhi\r\n") and not result.envelope.utf8
    stop = prepared(HIGH_ADDRESS, offered).stop
    assert stop is not None and stop.reply is not None
    assert (stop.cause, stop.reply.enhanced) == (
        (Cause.NEEDS_SMTPUTF8, "5.6.9") if offered else (Cause.NEEDS_8BITMIME, "5.6.3")
    )


def test_the_header_of_a_part_is_a_header() -> None:
    sent = b"".join(prepared(HIGH_PART, ("8BITMIME",)).content())
    assert b"filename*=utf-8''b%C3%A5t" in sent and "höher".encode() in sent, "the body may stay as it is"
    assert b"".join(prepared(HIGH_PART, ()).content()).isascii()
    assert b"".join(prepared(HIGH_PART, BOTH).content()) == HIGH_PART


def test_transforms_follow_each_other_and_the_size_follows_them() -> None:
    """Another sender, then long lines, then 7 bits: each sees what the one before wrote."""
    content = f"From: J <a@x.example>\r\nSubject: x\r\n\r\nhöher {'x' * 2000}\r\n".encode()
    message = Message(7, 0, 9, "a@x.example", len(content), True, False, "<m>", "l", "unix", "h", "", "ESMTP", form=1)
    job = Job(message, [Recipient(7, 1, "r@y.example")], "c", None, content, lambda id: (content,))
    result = prepare(job, NextHop(Capabilities({}), proven=True, sender_rule=SenderRule("out@z.example")))
    sent = b"".join(result.content())
    assert result.stop is None and result.envelope.reverse_path == "out@z.example" and b"J <out@z.example>" in sent
    assert result.envelope.size == len(sent) and sent.isascii() and max(map(len, sent.split(b"\r\n"))) <= 998
    assert result.changed == "long lines and NUL were encoded" and not result.envelope.eight_bit
    assert message_from_bytes(sent).get_payload(decode=True) == f"höher {'x' * 2000}\r\n".encode()


def test_what_is_too_large_is_not_read_to_be_encoded() -> None:
    def read(id: int) -> Iterator[bytes]:
        yield HIGH_BODY
        raise AssertionError("read beyond its header")

    message = Message(7, 0, 9, "a@x.example", 5000, True, False, "<m>", "l", "unix", "h", "", "ESMTP")
    job = Job(message, [Recipient(7, 1, "r@y.example")], "c", None, None, read)
    stop = prepare(job, NextHop(Capabilities({"SIZE": ("4000",)}), proven=True)).stop
    assert stop is not None and stop.cause is Cause.TOO_LARGE


def test_what_is_said_to_be_8_bits_and_is_not_stays() -> None:
    result = prepared(PLAIN, ())
    assert result.stop is None and b"".join(result.content()) == PLAIN
