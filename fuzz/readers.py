"""Fuzz what reads files and headers: `python fuzz/readers.py -max_total_time=60`.

Header, MIME, notices, logs, session scripts, configurations: whatever they hold, it is read, or refused by an error of
ours, within bounds of time (libFuzzer's -timeout) and memory (its -rss_limit_mb).
"""

from __future__ import annotations

import contextlib
import sys
from pathlib import Path

import atheris

with atheris.instrument_imports(include=["copper_kite"]):
    from copper_kite.errors import KiteError
    from copper_kite.mail.encoded import ascii_header
    from copper_kite.mail.header import decode_words, fields, scan_header
    from copper_kite.mail.hop import parse_received
    from copper_kite.mail.parts import parts
    from copper_kite.mail.readdress import authors, complete_addresses, leave_under
    from copper_kite.mail.returned import read_notice
    from copper_kite.mail.sevenbit import to_seven_bits
    from copper_kite.mail.submitted import Completion, take_in
    from copper_kite.session.script import parse_script
    from copper_kite.settings.load import load_source
    from copper_kite.trace.syslog import parse_line

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
    for name, value in fields(octets):
        assert name == name.lower()
        decode_words(value).encode()  # no lone surrogates
    made = ascii_header(scan_header(octets).octets)
    assert made is None or made.isascii()
    authors(octets)


def mime(octets: bytes) -> None:
    """Parts, and the conversion to seven bits."""
    for part in parts(octets):
        part.text.encode("utf-8", "surrogatepass")
    made = to_seven_bits(octets, bodies=True)
    assert made is None or made.isascii()


def text_of(octets: bytes) -> str:
    return octets.decode("utf-8", "replace")


READERS = (
    header,
    mime,
    read_notice,
    lambda octets: parse_line(octets, 1e9),
    lambda octets: parse_received(text_of(octets)),
    lambda octets: parse_script(FILE, text_of(octets)),
    lambda octets: load_source(FILE, text_of(octets), secrets=False),
)


def one_input(data: bytes) -> None:
    """The first octet says which reader gets the rest."""
    if data:
        with contextlib.suppress(KiteError):
            READERS[data[0] % len(READERS)](data[1:])


if __name__ == "__main__":
    atheris.Setup(sys.argv, one_input)
    atheris.Fuzz()
