"""Fuzz what reads files and headers: `python fuzz/readers.py [READER] -max_total_time=60`.

READER is one of those below, by its name; without it they take turns, chosen by the first octet of each input.
Header, MIME, notices, logs, session scripts, configurations: whatever they hold, it is read, or refused by an error of
ours, within bounds of time (libFuzzer's -timeout) and memory (its -rss_limit_mb).
"""

from __future__ import annotations

import contextlib
import sys
import tempfile
from pathlib import Path

import atheris

with atheris.instrument_imports(include=["copper_kite"]):
    from copper_kite.errors import KiteError
    from copper_kite.mail import (
        Completion,
        ascii_header,
        authors,
        complete_addresses,
        decode_words,
        header_fields,
        leave_under,
        mime_parts,
        parse_received,
        read_notice,
        scan_header,
        take_in,
        to_lines,
        to_seven_bits,
    )
    from copper_kite.session import parse_script
    from copper_kite.settings import load_source
    from copper_kite.trace import parse_line

FILE = Path("/nowhere/kite.toml")
OUTWARD = Completion(lambda path: f"{path}@x.example", lambda path: None)


def header(octets: bytes) -> None:
    """What a submission and a received message go through."""
    kept = take_in(
        octets, b"Received: x\r\n", completion=OUTWARD, author="a@b.example", server="q.example", id="0", at=0.0
    )
    assert kept.content.startswith(b"Received: x\r\n")
    complete_addresses(octets, *OUTWARD)
    leave_under(octets, "a@b.example", lambda path: False)
    for name, value in header_fields(octets):
        assert name == name.lower()
        decode_words(value).encode()  # no lone surrogates
    made = ascii_header(scan_header(octets).octets)
    assert made is None or made.isascii()
    authors(octets)


def mime(octets: bytes) -> None:
    """Parts, and the conversion to seven bits."""
    for part in mime_parts(octets):
        part.text.encode("utf-8", "surrogatepass")
    made = to_seven_bits(octets, bodies=True)
    assert made is None or made.isascii()
    made = to_lines(octets)
    assert made is None or (b"\0" not in made and max(map(len, made.split(b"\r\n"))) <= 998)


def text_of(octets: bytes) -> str:
    return octets.decode("utf-8", "replace")


def log(octets: bytes) -> None:
    """A line of a log, and the chain of servers in a header."""
    parse_line(octets, 1e9)
    parse_received(text_of(octets))


def script(octets: bytes) -> None:
    """A session script."""
    parse_script(FILE, text_of(octets))


def configuration(octets: bytes) -> None:
    """A configuration, with all that is wrong in it."""
    load_source(FILE, text_of(octets), secrets=False)


READERS = {
    "header": header,
    "mime": mime,
    "notice": read_notice,
    "log": log,
    "script": script,
    "configuration": configuration,
}
# Where each begins: what is right, so that what is nearly right is found.
SEEDS = {
    "header": (
        "Received: from a (b [192.0.2.1]) by c with ESMTPS id 1 for <d@e>; Mon, 23 Nov 2026 10:00:00 +0000",
        'From: =?utf-8?Q?=C3=84nn?= <root> (Cron), "a\\"b"@x.example', "To: g: a, b@[192.0.2.1];", "Bcc: c",
        "\tc2", "", "x",
    ),
    "mime": (
        "MIME-Version: 1.0", 'Content-Type: multipart/mixed; boundary*0=a; boundary*1="b"', "", "\xe4", "--ab",
        "Content-Type: text/plain; charset=utf-8", "Content-Transfer-Encoding: 8bit", "", "\xe4", "--ab",
        "Content-Type: message/rfc822", "", "Subject: \xe4", "", "\xe4", "--ab--",
    ),
    "notice": (
        "Content-Type: multipart/report; report-type=delivery-status; boundary=b", "", "--b",
        "Content-Type: message/delivery-status", "", "Reporting-MTA: dns; q.example", "Original-Envelope-Id: 1", "",
        "Final-Recipient: rfc822; a@b.example", "Action: failed", "Status: 5.1.1", "Remote-MTA: dns; c.example",
        "Diagnostic-Code: smtp; 550 5.1.1 no", "--b", "Content-Type: text/rfc822-headers", "",
        "Message-ID: <a@b>", "--b--",
    ),
    "log": ('<22>1 2026-11-23T10:00:00.5+00:00 quay1 kite 7 relayed [a@1 id="1" to="a\\"b"] 250 2.0.0 taken',),
    "script": ("send EHLO quay1.ternferries.example", "expect 250", "send MAIL FROM:<a@b.example>", "expect 2yz /ok/"),
    "configuration": (
        "[server]", 'name = "quay1.ternferries.example"', "[[listener]]", 'name = "p"', 'bind = ["127.0.0.1:2525"]',
        "[[connector]]", 'name = "beacon"', 'hosts = ["out.example:587"]', 'recipients = ["*.x.example"]',
        'allowance = "3/day"', "",
    ),
}  # fmt: skip


def fuzz(argv: list[str]) -> None:
    """Run one reader, or all."""
    name = next((word for word in argv[1:] if word in READERS), None)
    readers = [READERS[name]] if name else list(READERS.values())

    def one_input(data: bytes) -> None:
        if data:
            with contextlib.suppress(KiteError):
                readers[data[0] % len(readers)](data[1:])

    with tempfile.TemporaryDirectory() as corpus:
        for place, seed in enumerate(SEEDS if name is None else [name]):
            (Path(corpus) / seed).write_bytes(bytes([place]) + "\r\n".join(SEEDS[seed]).encode())
        atheris.Setup([*(word for word in argv if word != name), corpus], one_input)
        atheris.Fuzz()


if __name__ == "__main__":
    fuzz(sys.argv)
