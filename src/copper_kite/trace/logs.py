"""Logs in files: plain or compressed, one or a rotated set, or a stream; searched for octets before they are parsed."""

from __future__ import annotations

import bz2
import gzip
import lzma
import os
import re
import sys
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO, cast

from copper_kite.errors import InputError
from copper_kite.trace.linemap import Entry, LineMap, shipped_map
from copper_kite.trace.syslog import Line, parse_line

__all__ = ["MAX_LINE", "STREAM", "LogSource", "find_lines", "rotated"]

PORTION = 1 << 20  # octets read at a time
MAX_LINE = 1 << 16  # octets of a line that are looked at; what is longer is cut
STREAM = "-"  # standard input
_OPENERS: dict[str, Callable[[Path], object]] = {".gz": gzip.open, ".bz2": bz2.open, ".xz": lzma.open}
_AGE = re.compile(r"[.-]\d+(?:[T_-]\d+)*(?:\.(?:gz|bz2|xz))?")


@dataclass(frozen=True, slots=True)
class LogSource:
    """A log: its name in output, its files from the oldest on, and the map of its lines; without a map, any that comes
    with the product and fits."""

    name: str
    files: tuple[str, ...]
    map: LineMap | None = None

    def search(self, needles: Sequence[bytes], now: float, *, any_case: bool = False) -> Iterator[Entry]:
        """The lines that hold one of the needles, or all of them where there is none. `now` in seconds since 1970.

        Raises InputError for a file that cannot be read.
        """
        for file in self.files:
            for octets in find_lines(_portions(file), needles, any_case=any_case):
                yield self.read(octets, now)

    def read(self, octets: bytes, now: float) -> Entry:
        """One line."""
        line = parse_line(octets[:MAX_LINE], now)
        raw = octets[:MAX_LINE].decode("utf-8", "replace")
        if self.map is not None and self.map.fits(line):
            return self.map.read(line, self.name, raw)
        return next(name for name, is_ours in _SHIPPED if is_ours(line)).read(line, self.name, raw)


def _is_ours(line: Line) -> bool:
    return line.program == "copper-kite" or "level" in line.pairs or _LEVEL.match(line.text) is not None


_LEVEL = re.compile(r"(?:error|warning|notice|info) \w+ \S+=")
# Maps that come with the product, each with what tells its lines; the last is for any.
_SHIPPED: tuple[tuple[LineMap, Callable[[Line], bool]], ...] = (
    (shipped_map("kite"), _is_ours),
    (shipped_map("catch"), lambda line: "number" in line.pairs and "rcpt_parameters" in line.pairs),
    (shipped_map("any"), lambda line: True),
)


def rotated(path: Path) -> list[Path]:
    """A log with what became of it before (`LOG.1`, `LOG.2.gz`, `LOG-20260504`), the oldest first."""
    older = [other for other in path.parent.glob(f"{path.name}[.-]*") if _AGE.fullmatch(other.name[len(path.name) :])]
    older.sort(key=lambda other: other.stat().st_mtime)
    return [*older, *([path] if path.exists() or not older else [])]


def _portions(file: str) -> Iterator[bytes]:
    """The octets of a file, a portion at a time. Raises InputError."""
    try:
        if file == STREAM:
            while data := os.read(sys.stdin.fileno(), PORTION):
                yield data
            return
        path = Path(file)
        opener = _OPENERS.get(path.suffix)
        with cast(BinaryIO, opener(path)) if opener is not None else path.open("rb", buffering=0) as stream:
            while data := stream.read(PORTION):
                yield data
    except (OSError, EOFError, lzma.LZMAError) as error:
        raise InputError(f"{file} cannot be read: {getattr(error, 'strerror', None) or error}") from error


def find_lines(portions: Iterator[bytes], needles: Sequence[bytes], *, any_case: bool = False) -> Iterator[bytes]:
    """The lines with one of the needles in them, in order; every line, where there is none."""
    wanted = [needle.lower() if any_case else needle for needle in needles]
    rest = b""
    for portion in portions:
        end = portion.rfind(b"\n") + 1
        if not end:
            rest = (rest + portion)[-MAX_LINE:]
            continue
        yield from _in_whole_lines(rest + portion[:end] if rest else portion[:end], wanted, any_case=any_case)
        rest = portion[end:][-MAX_LINE:]
    if rest:
        yield from _in_whole_lines(rest + b"\n", wanted, any_case=any_case)


def _in_whole_lines(lines: bytes, needles: Sequence[bytes], *, any_case: bool) -> Iterator[bytes]:
    if not needles:
        yield from lines.splitlines()
        return
    looked = lines.lower() if any_case else lines
    at = {needle: looked.find(needle) for needle in needles}
    while at := {needle: place for needle, place in at.items() if place >= 0}:
        place = min(at.values())
        begin, end = lines.rfind(b"\n", 0, place) + 1, lines.index(b"\n", place)
        yield lines[begin:end]
        at = {needle: looked.find(needle, end) if place < end else place for needle, place in at.items()}
