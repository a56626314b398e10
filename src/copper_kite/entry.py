"""Where the command `kite` begins: `kite pipe` goes a short way, so that submitting a message is quick."""

from __future__ import annotations

import contextlib
import os
import sys

__all__ = ["main"]


def main() -> None:
    """Run the command line and leave with its exit status."""
    words, config = sys.argv[1:], None
    if words[:1] == ["--config"] and len(words) > 1:
        config, words = words[1], words[2:]
    if words[:1] == ["pipe"] and words[1:2] not in (["--help"], ["-h"]):
        from copper_kite.cli import hand_in

        status = hand_in(words[1:], config)
        for stream in (sys.stdout, sys.stderr):
            with contextlib.suppress(OSError, ValueError, AttributeError):  # nobody reads it, or there is none
                stream.flush()
        os._exit(status)  # to take the interpreter apart takes longer than the handing over
    from copper_kite.cli import run_command_line as command_line

    command_line()
