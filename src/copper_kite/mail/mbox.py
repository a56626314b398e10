"""Many messages in one file (RFC 4155)."""

from __future__ import annotations

import time

__all__ = ["mbox_entry"]


def mbox_entry(content: bytes, sender: str, at: float) -> bytes:
    """One message as it stands in an mbox file: line ends are LF, and a line that begins with `From ` gets a `>`.

    `at` in seconds since 1970. Where the sender is empty, the file says MAILER-DAEMON, as RFC 4155 leaves no blank.
    """
    stamp = time.strftime("%a %b %d %H:%M:%S %Y", time.gmtime(at))
    body = content.replace(b"\r\n", b"\n")
    if b"From " in body:
        body = b"\n".join(b">" + line if line.startswith(b"From ") else line for line in body.split(b"\n"))
    return f"From {sender or 'MAILER-DAEMON'} {stamp}\n".encode() + body.rstrip(b"\n") + b"\n\n"
