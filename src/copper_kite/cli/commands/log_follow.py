"""`kite log follow`: new entries, batch by batch; the position is kept for the next time."""

from __future__ import annotations

import contextlib
import json
import os
import time
from collections import deque
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import IO, TYPE_CHECKING, Any

import click

if TYPE_CHECKING:
    from copper_kite.store import StorePlace
    from copper_kite.trace import Entry, LogSource

__all__ = ["follow_files", "follow_journal"]

LOOK_SECONDS = 0.2  # from one look for what is new to the next
LOOK_BACK = 3600.0  # seconds in which the entries from before are looked for
MAX_READ = 1 << 20  # octets of a file at a time


def follow_journal(queue: StorePlace, host: str, last: int, keep_place: Path | None) -> Iterator[list[Entry]]:
    """Follow this server's journal; first what came since the kept position, or the `last` entries."""
    from copper_kite.store import open_store
    from copper_kite.trace import journal_entries

    kept, history = _kept(keep_place, "journal"), open_store(queue).history()
    try:
        place = history.place(kept) if kept is not None else history.now()
    except (KeyError, TypeError, ValueError) as error:
        raise _not_a_place(keep_place) from error
    if kept is None and last:
        now = time.time()
        before = deque((entry for happened in history.between(now - LOOK_BACK, now)
                        for entry in journal_entries(happened, host)), maxlen=last)  # fmt: skip
        yield list(before)
    while True:
        results = [entry for happened in history.after(place) for entry in journal_entries(happened, host)]
        yield results
        if results or kept is None:
            kept = place.export()
            _keep(keep_place, "journal", kept)
        time.sleep(LOOK_SECONDS)


def follow_files(sources: Sequence[LogSource], last: int, keep_place: Path | None) -> Iterator[list[Entry]]:
    """Follow these files, also when they are rotated."""
    kept = _kept(keep_place, "files") or {}
    tails = [_Tail(source, file, kept.get(file), last) for source in sources for file in source.files]
    while True:
        results = [tail.source.read(line, time.time()) for tail in tails for line in tail.lines()]
        yield results
        _keep(keep_place, "files", {tail.path: tail.place for tail in tails})
        if not results:
            if any(tail.path == "-" for tail in tails):
                return  # standard input has ended
            time.sleep(LOOK_SECONDS)


class _Tail:
    """The end of one file. A file that was put aside is read to its end before the new one is begun."""

    def __init__(self, source: LogSource, path: str, kept: Sequence[int] | None, last: int) -> None:
        self.source, self.path = source, path
        self._file: IO[bytes] | None = None
        self._rest = b""
        self._open()
        if self._file is None or path == "-":
            return
        status = os.fstat(self._file.fileno())
        if kept is not None and kept[0] == status.st_ino and kept[1] <= status.st_size:
            self._file.seek(kept[1])
        elif kept is None:
            self._file.seek(_last_lines(self._file, status.st_size, last))

    @property
    def place(self) -> list[int]:
        """The file, and how much of it is read."""
        if self._file is None or self.path == "-":
            return [0, 0]
        return [os.fstat(self._file.fileno()).st_ino, self._file.tell() - len(self._rest)]

    def lines(self) -> list[bytes]:
        """Whole lines that are new."""
        if self._file is None:
            self._open()
            if self._file is None:
                return []
        data = os.read(self._file.fileno(), MAX_READ) if self.path == "-" else self._file.read(MAX_READ)
        if not data and self.path != "-" and self._is_another():
            rest, self._rest = self._rest, b""
            self._file.close()
            self._open()
            return [rest] if rest else []
        *whole, self._rest = (self._rest + data).split(b"\n")
        if not data and self.path == "-" and self._rest:
            whole, self._rest = [*whole, self._rest], b""
        return whole

    def _open(self) -> None:
        import sys

        if self.path == "-":
            self._file = sys.stdin.buffer
            return
        try:
            self._file = Path(self.path).open("rb")  # noqa: SIM115
        except OSError:
            self._file = None  # between two of them

    def _is_another(self) -> bool:
        assert self._file is not None
        try:
            now = os.stat(self.path)  # noqa: PTH116
        except OSError:
            return False
        ours = os.fstat(self._file.fileno())
        if now.st_ino == ours.st_ino and now.st_size < self._file.tell():
            self._file.seek(0)  # it was emptied
            return False
        return now.st_ino != ours.st_ino


def _last_lines(file: IO[bytes], size: int, count: int) -> int:
    """Where the last lines begin, as far as they stand in the last MAX_READ octets."""
    begin = max(size - MAX_READ, 0)
    file.seek(begin)
    data = file.read(size - begin)
    at = len(data)
    if not count:
        return size
    for _ in range(count + 1):
        at = data.rfind(b"\n", 0, at)
        if at < 0:
            return begin
    return begin + at + 1


def _kept(path: Path | None, kind: str) -> dict[str, Any] | None:
    """The place that was kept. Raises UsageError for a file that is none."""
    if path is None or not path.exists():
        return None
    try:
        result: dict[str, Any] = json.loads(path.read_text("utf-8"))[kind]
    except (OSError, ValueError, KeyError, TypeError) as error:
        raise _not_a_place(path) from error
    return result


def _not_a_place(path: Path | None) -> click.UsageError:
    return click.UsageError(f"{path} holds no place to go on from; remove it, or name another file")


def _keep(path: Path | None, kind: str, value: object) -> None:
    """Whole or not at all, so that being killed does no harm."""
    if path is None:
        return
    temporary = path.with_name(f".{path.name}.new")
    with contextlib.suppress(FileNotFoundError):
        temporary.write_text(json.dumps({kind: value}), "utf-8")
        temporary.replace(path)
