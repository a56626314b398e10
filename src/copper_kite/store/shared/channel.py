"""The channel to the process that writes, and its start: a process of its own has another core, and no part in the
loop's interpreter."""

from __future__ import annotations

import contextlib
import marshal
import os
import signal
import socket
import subprocess
import sys
from collections.abc import Sequence
from typing import Any

from copper_kite.store.shared.shared_buffer import SharedBuffer

__all__ = ["Channel", "become_writer", "start_writing_process"]

END_SECONDS = 30.0  # what the end of the process may take
STALLED_SECONDS = 600.0  # without an answer, or room for a batch: the other end counts as gone


class Channel:
    """One end of a socket pair that carries plain values, each in one frame. `process` ends with it."""

    def __init__(self, sock: socket.socket, process: subprocess.Popen[bytes] | None = None) -> None:
        self._sock = sock
        self._process = process

    def fileno(self) -> int:
        """The file descriptor, for `select`."""
        return self._sock.fileno()

    def send(self, value: Any) -> None:
        """Send a value. The other end waits for it, so this takes no longer than the copying."""
        data = marshal.dumps(value)  # between two processes of the same interpreter, and faster than all else
        try:
            self._sock.sendall(len(data).to_bytes(4, "big") + data)
        except OSError:
            return  # the other end is gone; receive tells

    def receive(self) -> Any:
        """The next value; None when the other end is gone."""
        try:
            return marshal.loads(self._exactly(int.from_bytes(self._exactly(4), "big")))
        except (OSError, EOFError):
            return None

    def _exactly(self, size: int) -> bytearray:
        data = bytearray(size)
        view, filled = memoryview(data), 0
        while filled < size:
            count = self._sock.recv_into(view[filled:])
            if not count:
                raise EOFError
            filled += count
        return data

    def close(self) -> None:
        """End the process, which is waited for."""
        self._sock.close()
        if self._process is not None:
            try:
                self._process.wait(END_SECONDS)
            except subprocess.TimeoutExpired:
                self._process.kill()
                self._process.wait()


def start_writing_process(
    module: str, arguments: Sequence[str], keep: Sequence[int] = (), secret: bytes = b""
) -> tuple[Channel, SharedBuffer]:
    """Start `python -m module ARGUMENT… CHANNEL BUFFER`; it holds the file descriptors in `keep` open as long as it
    lives. `secret` is the first thing that it receives, where there is one.

    Returns what leads to it: rows go by the channel, content by the memory.
    """
    handed = SharedBuffer()
    ours, theirs = socket.socketpair()
    with theirs:
        files = (theirs.fileno(), handed.descriptor)
        words = [sys.executable, "-P", "-m", module, *arguments, *map(str, files)]
        process = subprocess.Popen(words, stdin=subprocess.DEVNULL, pass_fds=(*files, *keep))
    ours.settimeout(STALLED_SECONDS)  # which is also right when the loop that polls it makes it non-blocking
    channel = Channel(ours, process)
    if secret:
        channel.send(secret)
    return channel, handed


def become_writer() -> None:
    """Be the process that writes: what stops the server must not stop it before the server is done."""
    if hasattr(os, "SCHED_BATCH"):  # it takes the other core, and does not push the loop off its own to wake up
        with contextlib.suppress(OSError):
            os.sched_setscheduler(0, os.SCHED_BATCH, os.sched_param(0))
    for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP, signal.SIGUSR1):
        signal.signal(number, signal.SIG_IGN)
