"""Messages made to break whoever looks into them, through every way in which mail leaves: none stops another."""

from __future__ import annotations

from pathlib import Path

import pytest

from copper_kite.net.authority import CertificateFiles
from copper_kite.words import Cause, State
from tests.support import converse, site

HEAD = b"From: Tidewatch <tidewatch@ternferries.example>\r\nTo: duty@crew.example\r\n"
# By what each is about; the octets of a message without the dot behind it.
POISON = {
    "half a character by utf-7": b"Subject: =?utf-7?Q?+2AA-?=\r\n\r\nx",
    "half a character by an escape": b"Subject: =?unicode_escape?Q?=5Cud800?=\r\n\r\nx",
    "a character set with a NUL": b"Content-Type: text/plain; name*=a\0b''%41\r\n\r\n\xe4",
    "a character set that there is none of": b"Content-Type: text/plain; charset=none-such\r\n\r\n\xe4",
    "an address of brackets": b"From: " + b"(" * 700 + b"\r\n\r\nx",
    "an address of quotes": b"From: " + b'"\\"' * 300 + b"\r\n\r\nx",
    "groups within groups": b"To: " + b"a:b@x,\r\n " * 300 + b";\r\n\r\nx",
    "many parameters": b"Content-Type: text/plain" + b";\r\n a*0*=b" * 3000 + b"\r\n\r\n\xe4",
    "parts within parts": b"Content-Type: multipart/mixed; boundary=b\r\n\r\n"
    + b"--b\r\nContent-Type: multipart/mixed; boundary=b\r\n\r\n" * 300 + b"\xe4",
    "messages within messages": b"Content-Type: message/rfc822\r\n\r\n" * 300 + b"\xe4",
    "a boundary that never comes": b'Content-Type: multipart/mixed; boundary="' + b"x" * 70 + b'"\r\n\r\n\xe4',
    "an empty boundary": b'Content-Type: multipart/mixed; boundary=""\r\n\r\n--\r\n\r\n\xe4\r\n----',
    "a digest of nothing": b"Content-Type: multipart/digest; boundary=b\r\n\r\n--b\r\n--b--\r\n\xe4",
    "no header at all": b"\r\n\xe4",
    "a header without a colon": b"this is no field\r\n\r\n\xe4",
    "a field without a name": b": value\r\n\r\nx",
    "a fold before the first field": b" folded\r\nSubject: x\r\n\r\nx",
    "an encoding that there is none of": b"Content-Transfer-Encoding: x-none\r\n\r\n\xe4",
    "base64 that is none": b"Content-Type: multipart/mixed; boundary=b\r\nContent-Transfer-Encoding: base64\r\n\r\n!!\xe4",
    "a date out of all calendars": b"Date: Mon, 99 Foo 99999 99:99:99 +9999\r\n\r\nx",
    "a Message-ID of many lines": b"Message-ID: <a\r\n b\r\n c>\r\n\r\nx",
    "an address beyond ASCII": "From: jörg@bücher.example\r\nSubject: ö\r\n\r\nö".encode(),
    "a line of separators": "Subject: a\u2028b\u2029c\x85d\r\n\r\nx".encode(),
    "octets of no character set": b"Subject: \xff\xfe\xed\xa0\x80\r\n\r\n\xed\xa0\x80",
}  # fmt: skip
REFUSED = {"a character set with a NUL"}  # no octet of a message may be one
INNOCENT = 10
SENDER = 'sender = "ferries@ternferries.example"\n'
WAYS = {  # what the next hop does not offer, and the connector's settings
    "all is offered": (frozenset(), ""),
    "another sender": (frozenset(), SENDER),
    "seven bits": (frozenset({"8BITMIME"}), ""),
    "seven bits, another sender": (frozenset({"8BITMIME", "SMTPUTF8"}), SENDER),
    "no SMTPUTF8": (frozenset({"SMTPUTF8"}), ""),
    "no CHUNKING": (frozenset({"CHUNKING"}), ""),
    "nothing but SMTP": (frozenset({"8BITMIME", "SMTPUTF8", "CHUNKING", "PIPELINING", "DSN", "SIZE", "LIMITS"}), SENDER),
    "an allowance, a pace": (frozenset(), 'allowance = "1000/day"\npace = "6000/m"\n'),
    "one session": (frozenset(), "sessions = 1\nmax_size = \"1MiB\"\n"),
}  # fmt: skip


def letter(name: str, content: bytes, more: bytes = b"") -> bytes:
    dotted = content.replace(b"\r\n.", b"\r\n..")
    return b"MAIL FROM:<a@x.example>%s\r\nRCPT TO:<%s@y.example>\r\nDATA\r\n%s\r\n.\r\n" % (more, name.encode(), dotted)


@pytest.mark.parametrize("way", WAYS)
async def test_no_message_stops_another(folder: Path, authority: CertificateFiles, way: str) -> None:
    """Each ends by itself, as relayed or refused for what it is, and never by a fault of ours."""
    withheld, extra = WAYS[way]
    innocent = [letter(f"n{number}", HEAD + b"\r\nhello") for number in range(INNOCENT)]
    poison = [letter(f"p{number}", content, b" SMTPUTF8") for number, content in enumerate(POISON.values())]

    async with site(folder, authority, tls="off", withheld=withheld, extra=extra) as here:
        heard = await converse(
            here.port, b"EHLO h\r\n" + b"".join([*innocent[:5], *poison, *innocent[5:]]) + b"QUIT\r\n"
        )
        kept = heard.count(b" kept as ")
        await here.until(lambda reader: not [row for row in reader.queue() if row.message.reverse_path])
        with here.reader() as reader:
            rows = [row for row in reader.queue(tuple(State)) if row.message.reverse_path]
            causes = {attempt.cause for row in rows for attempt in reader.record(row.message.id).attempts}
        states = {row.recipient.address.partition("@")[0]: row.recipient.state for row in rows}
        refused = {name for number, name in enumerate(POISON) if f"p{number}" not in states}
        assert kept == len(rows) and refused <= REFUSED, "few are refused at the door"
        assert [states[f"n{number}"] for number in range(INNOCENT)] == [State.RELAYED] * INNOCENT
        assert Cause.INTERNAL not in causes
