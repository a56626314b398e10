"""Where the octets of messages stand: files that are only appended to, beside the database that knows the places.

A segment is written by one process and made stable by the one that commits, before it commits: so what the database
names is always whole. What no row names (a crash, or a commit that failed) is never read, and goes with its segment,
which is removed as a whole when the last message in it has ended. Each process that appends begins one of its own.
"""

from __future__ import annotations

import contextlib
import os
from collections.abc import Collection
from pathlib import Path

__all__ = ["SEGMENT_OCTETS", "Extent", "Segments", "Syncer", "read_extent", "segment_sizes", "sweep"]

SEGMENT_OCTETS = 64 * 1024 * 1024  # when a segment has so many, the next one is begun
_FOLDER = "content"
_AT_ONCE = 1000  # buffers of one write (IOV_MAX is 1024)

Extent = tuple[int, int]  # the number of a segment, and the octet at which something begins in it


def segment_sizes(folder: Path) -> list[tuple[int, int]]:
    """The segments that there are, in order, with their octets."""
    found = []
    with contextlib.suppress(FileNotFoundError), os.scandir(_within(folder)) as files:
        for file in files:
            with contextlib.suppress(FileNotFoundError):  # it went just now
                if file.name.isdigit():
                    found.append((int(file.name), file.stat().st_size))
    return sorted(found)


def _within(folder: Path) -> Path:
    return folder / _FOLDER


def _path(folder: Path, segment: int) -> str:
    return f"{folder}/{_FOLDER}/{segment:08}"


class Segments:
    """Appends. Octets are `put`, which gives the place they will have, and written together by `flush`."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._number = 0
        self._file = -1
        self._end = 0  # where the next octets go
        self._written = 0
        self._pending: list[bytes] = []

    @property
    def pending(self) -> int:
        """Octets put and not yet flushed."""
        return self._end - self._written

    def put(self, octets: bytes) -> Extent:
        """Have `octets` written with the next flush; where they will stand. Raises OSError when no file can be had."""
        if self._file < 0 or (self._written >= SEGMENT_OCTETS and not self._pending):
            self._begin()  # what is flushed together stands together
        start = self._end
        self._end = start + len(octets)
        self._pending.append(octets)
        return self._number, start

    def flush(self) -> int:
        """Write what was put; the segment that is to be made stable, 0 for none. Raises OSError; then it is nowhere."""
        pending, at = self._pending, self._written
        if not pending:
            return 0
        self._pending, self._written = [], self._end
        if len(pending) > _AT_ONCE or os.pwritev(self._file, pending, at) < self._end - at:
            _write(self._file, b"".join(pending), at)
        return self._number

    def _begin(self) -> None:
        self.leave()
        _within(self._folder).mkdir(mode=0o700, exist_ok=True)
        number = max(self._number, *(number for number, _ in segment_sizes(self._folder)), 0) + 1
        self._file = os.open(_path(self._folder, number), os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, 0o600)
        self._number, self._end, self._written = number, 0, 0

    @property
    def last(self) -> int:
        """The number of the last segment that was begun; what is put next stands in that one, or in one behind it."""
        return self._number

    def leave(self) -> None:
        """Begin another segment next time: after a failure nobody knows what this one holds (Q-04).

        What was put and not flushed is nowhere.
        """
        if self._file >= 0:
            os.close(self._file)
        self._file, self._pending = -1, []


def _write(file: int, octets: bytes, at: int) -> None:
    view = memoryview(octets)
    while view:
        count = os.pwrite(file, view, at)
        view, at = view[count:], at + count


class Syncer:
    """Makes stable what another process appended."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._number = 0
        self._file = -1

    def sync(self, segment: int) -> None:
        """Have all that was written to a segment on stable storage, its name too. Raises OSError."""
        if segment != self._number:
            self.close()
            self._file = os.open(_path(self._folder, segment), os.O_RDONLY | os.O_CLOEXEC)
            self._number = segment
            _sync_folder(_within(self._folder))
            _sync_folder(self._folder)
        os.fdatasync(self._file)

    def close(self) -> None:
        """Let go of the file."""
        if self._file >= 0:
            os.close(self._file)
        self._file, self._number = -1, 0


def _sync_folder(folder: Path) -> None:
    file = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    try:
        os.fsync(file)
    finally:
        os.close(file)


def sweep(folder: Path, used: Collection[int], before: int) -> None:
    """Remove the segments that hold nothing any more: those that are not `used`, with a number below `before`."""
    for number, _ in segment_sizes(folder):
        if number < before and number not in used:
            with contextlib.suppress(OSError):  # the next sweep comes by
                os.unlink(_path(folder, number))  # noqa: PTH108


def read_extent(folder: Path, segment: int, start: int, size: int) -> bytes:
    """The octets that stand there. Raises OSError, FileNotFoundError where the segment is gone."""
    file = os.open(_path(folder, segment), os.O_RDONLY | os.O_CLOEXEC)
    try:
        octets = os.pread(file, size, start)
    finally:
        os.close(file)
    if len(octets) < size:
        raise OSError(f"segment {segment} ends before octet {start + size}")
    return octets
