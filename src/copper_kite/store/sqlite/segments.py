"""Segments hold the octets of messages: files that are only appended to, beside the database that has the places.

A segment is made stable before what names a place in it is committed: so what the database names is always whole. What
no row names (a crash, or a commit that failed) is never read, and goes with its segment, which is removed as a whole
when the last message in it has ended. Each process that appends begins a segment of its own. After each portion
stands a sum of it, so that what the disk has changed is never sent; before what was written together, a label says
what it is (`store.labels`).
"""

from __future__ import annotations

import contextlib
import os
from collections.abc import Collection
from pathlib import Path

from copper_kite.store.files import sync_folder
from copper_kite.store.shared.shared_buffer import SUM_OCTETS, summed

__all__ = [
    "IDENTITY_OCTETS",
    "LABELLED",
    "MARK",
    "SEGMENT_OCTETS",
    "Extent",
    "Extents",
    "Segments",
    "identity_in",
    "segment_path",
    "segment_sizes",
]

LABELLED = b"kite+lab"  # a segment begins with it, and with the identity of the data folder
MARK = b"kite+crc"  # one without labels; one of an old release has neither, and no sums (`read_without_sum`)
IDENTITY_OCTETS = 16
SEGMENT_OCTETS = 64 * 1024 * 1024  # when a segment has so many, the next one is begun
_FOLDER = "content"

Extent = tuple[int, int]  # the number of a segment, and the octet at which something begins in it


def segment_sizes(folder: Path) -> list[tuple[int, int]]:
    """The segments that there are, in order, with their octets."""
    results = []
    with contextlib.suppress(FileNotFoundError, NotADirectoryError), os.scandir(_within(folder)) as files:
        for file in files:
            with contextlib.suppress(FileNotFoundError):  # it went just now
                if file.name.isdigit():
                    results.append((int(file.name), file.stat().st_size))
    return sorted(results)


def _within(folder: Path) -> Path:
    return folder / _FOLDER


def _path(folder: Path, segment: int) -> str:
    return f"{folder}/{_FOLDER}/{segment:08}"


def segment_path(folder: Path, segment: int) -> Path:
    """The file of a segment."""
    return Path(_path(folder, segment))


def identity_in(folder: Path, segment: int) -> bytes:
    """The identity of the data folder whose segment this is; empty where it does not say. Raises OSError."""
    with segment_path(folder, segment).open("rb") as file:
        head = file.read(len(LABELLED) + IDENTITY_OCTETS)
    return head[len(LABELLED) :] if head.startswith(LABELLED) else b""


def read_without_sum(folder: Path, segment: int, start: int, size: int) -> bytes | None:
    """What a release that wrote no sums has written there; None where a later one did, or where it is not all there."""
    try:
        with segment_path(folder, segment).open("rb") as file:
            if file.read(len(MARK)) in (LABELLED, MARK):
                return None
            file.seek(start)
            octets = file.read(size)
    except OSError:
        return None
    return octets if len(octets) == size else None


class Segments:
    """Appends octets, makes them stable, and removes what is not used any more.

    `identity` is that of the data folder; without one, nothing that is appended has a label.
    """

    def __init__(self, folder: Path, identity: bytes = b"") -> None:
        self.identity = identity
        self._head = LABELLED + identity if identity else MARK
        self._folder = folder
        self._number = 0
        self._file = -1
        self._end = 0  # where the next octets go

    @property
    def end(self) -> int:
        """The octets in the segment that is appended to; 0 where the next one begins another."""
        return self._end if self._file >= 0 else 0

    @property
    def gone(self) -> bool:
        """Whether the segment that is appended to was deleted meanwhile."""
        return self._file >= 0 and not os.fstat(self._file).st_nlink

    def append(self, octets: bytes | bytearray | memoryview, label: bytes = b"") -> Extent:
        """Write `octets` to stable storage after their label; their places. Raises OSError: then neither they nor
        anything later appended to the same segment is stored (Q-04)."""
        # After a failed write or sync nobody knows what of the file is on the disk: the kernel may have dropped the
        # pages and marked them clean, and a later fdatasync would succeed all the same. So the file is never written
        # again.
        try:
            if self._file < 0:
                self._begin()
            start = self._end + len(label)
            for left in (label, octets):
                while left:
                    count = os.pwrite(self._file, left, self._end)
                    self._end += count
                    left = left[count:]
            os.fdatasync(self._file)
        except OSError:
            self.leave()
            raise
        extent = self._number, start
        if self._end >= SEGMENT_OCTETS:
            self.leave()
        return extent

    def _begin(self) -> None:
        within = _within(self._folder)
        within.mkdir(mode=0o700, exist_ok=True)
        number = max(self._number, *(number for number, _ in segment_sizes(self._folder)), 0) + 1
        self._file = os.open(_path(self._folder, number), os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, 0o600)
        os.pwrite(self._file, self._head, 0)
        self._number, self._end = number, len(self._head)
        # A file whose name is not on the disk is gone after a loss of power, however well its content was synced.
        for folder in (within, self._folder):
            sync_folder(folder)

    def leave(self) -> None:
        """Begin another segment next time."""
        if self._file >= 0:
            os.close(self._file)
        self._file = -1

    def sweep(self, used: Collection[int]) -> None:
        """Remove the segments of which nothing is `used`, but for the one that is appended to."""
        for number, _ in segment_sizes(self._folder):
            if number not in used and (self._file < 0 or number != self._number):
                with contextlib.suppress(OSError):  # the next sweep comes by
                    os.unlink(_path(self._folder, number))  # noqa: PTH108


class Extents:
    """Reads what was appended. A file that is open takes room on the disk though it was removed: `close` soon."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._number = 0
        self._file = -1

    def __enter__(self) -> Extents:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def read(self, segment: int, start: int, size: int) -> bytes:
        """The octets that stand there. Raises OSError where they are not what was written, or the segment is gone."""
        if not size:  # the last portion of a message may have none, and then it stands nowhere
            return b""
        if segment != self._number or self._file < 0:
            self.close()
            self._file = os.open(_path(self._folder, segment), os.O_RDONLY | os.O_CLOEXEC)
            self._number = segment
        end = start + size + SUM_OCTETS
        result = os.pread(self._file, size + SUM_OCTETS, start)
        if start + len(result) < end:
            raise OSError(f"segment {segment} ends before octet {end}")
        octets = result[:size]
        if result[size:] != summed(octets):
            raise OSError(f"segment {segment} is damaged between octets {start} and {start + size}: its sum is wrong")
        return octets

    def close(self) -> None:
        """Close the file that was read last."""
        if self._file >= 0:
            os.close(self._file)
        self._file = -1
