"""Many messages in one file (RFC 4155)."""

from __future__ import annotations

import re
import time
from collections.abc import Iterable, Iterator
from functools import partial
from typing import IO

__all__ = ["mbox_entry", "mbox_lines", "mbox_messages"]

MOST_OF_LINE = 1024 * 1024  # octets that are read at a time where no line ends
MOST_OF_MESSAGE = 32 * 1024 * 1024  # octets; what is after them in a message is left out
_QUOTED = re.compile(rb">+From ")


def mbox_entry(content: bytes, sender: str, at: float) -> bytes:
    """One message as it stands in an mbox file: line ends are LF, and a line that begins with `From ` gets a `>`.

    `at` in seconds since 1970. Where the sender is empty, the file says MAILER-DAEMON, as RFC 4155 leaves no blank.
    """
    stamp = time.strftime("%a %b %d %H:%M:%S %Y", time.gmtime(at))
    body = content.replace(b"\r\n", b"\n")
    if b"From " in body:
        body = b"\n".join(b">" + line if line.startswith(b"From ") else line for line in body.split(b"\n"))
    return f"From {sender or 'MAILER-DAEMON'} {stamp}\n".encode() + body.rstrip(b"\n") + b"\n\n"


def mbox_lines(file: IO[bytes]) -> Iterator[bytes]:
    """The lines of a file, the endless ones in pieces."""
    return iter(partial(file.readline, MOST_OF_LINE), b"")


def mbox_messages(lines: Iterable[bytes]) -> Iterator[bytes]:
    """The messages of an mbox file; what begins without a `From ` line is one message. `>From ` is undone."""
    message: list[bytes] = []
    octets, blank = 0, True
    for line in lines:
        if blank and line.startswith(b"From "):
            if message:
                yield b"".join(message)
            message, octets = [], 0
        elif octets < MOST_OF_MESSAGE:
            message.append(line[1:] if _QUOTED.match(line) else line)
            octets += len(line)
        blank = not line.strip()
    if message:
        yield b"".join(message)
