"""Writes to a disk as they were recorded, and what is left of them when its power goes."""

from __future__ import annotations

import random
import struct
from collections.abc import Iterator
from dataclasses import dataclass, field
from enum import IntEnum
from pathlib import Path
from typing import NamedTuple

__all__ = ["Call", "lose_power", "steps"]

_HEAD = struct.Struct("=IIIQ")


class Call(IntEnum):
    """What a process does to its files; the numbers are those of the library."""

    WRITE = 1
    SYNC = 2
    CREATE = 3
    CUT = 4
    UNLINK = 5
    SYNC_FOLDER = 6


class Step(NamedTuple):
    """One call of the record; it stands before the octet `end`."""

    call: Call
    path: str
    offset: int
    data: bytes
    end: int


def steps(record: bytes) -> Iterator[Step]:
    """What was recorded."""
    at = 0
    while at < len(record):
        call, length, size, offset = _HEAD.unpack_from(record, at)
        at += _HEAD.size
        path, data = record[at : at + length].decode(), record[at + length : at + length + size]
        at += length + size
        yield Step(Call(call), path, offset, data, at)


@dataclass
class _File:
    """What is on the disk for certain, and what may be."""

    octets: bytearray = field(default_factory=bytearray)
    pending: list[Step] = field(default_factory=list)
    named: bool = False  # its name is on the disk

    def settle(self) -> None:
        for step in self.pending:
            _apply(self.octets, step)
        self.pending.clear()

    def lose(self, dice: random.Random) -> None:
        """Some of what is pending gets there: nothing, all, up to one, or any, the last of them in part."""
        how = dice.randrange(4)
        steps = self.pending if how else []
        if how == 2:
            steps = steps[: dice.randrange(len(steps) + 1)]
        elif how == 3:
            steps = [step for step in steps if dice.randrange(2)]
        for number, step in enumerate(steps):
            if how > 1 and number == len(steps) - 1 and step.data:
                step = step._replace(data=step.data[: dice.randrange(len(step.data)) // 512 * 512])
            _apply(self.octets, step)


def _apply(octets: bytearray, step: Step) -> None:
    if step.call is Call.CUT:
        del octets[step.offset :]
        octets.extend(bytes(step.offset - len(octets)))
    else:
        octets.extend(bytes(max(0, step.offset - len(octets))))
        octets[step.offset : step.offset + len(step.data)] = step.data


def lose_power(
    base: dict[str, bytes], taken: list[Step], upto: int, queue: Path, into: Path, dice: random.Random
) -> None:
    """Make in `into` what a loss of power leaves of `queue`, when so many octets had been recorded since `base`."""
    files = {path: _File(bytearray(octets), named=True) for path, octets in base.items()}
    gone: dict[str, _File] = {}  # deleted, and the folder was not synced since
    for step in taken:
        if step.end > upto:
            break
        if step.call is Call.CREATE:
            files[step.path] = _File()
        elif step.call is Call.SYNC_FOLDER:
            for path, file in files.items():
                file.named = file.named or str(Path(path).parent) == step.path
            gone = {path: file for path, file in gone.items() if str(Path(path).parent) != step.path}
        elif step.call is Call.UNLINK:
            if step.path in files:
                gone[step.path] = files.pop(step.path)
        elif step.call is Call.SYNC:
            files.setdefault(step.path, _File()).settle()
            files[step.path].named = True  # as journalling file systems do
        else:
            files.setdefault(step.path, _File()).pending.append(step)
    into.mkdir(parents=True)
    for path, file in {**{path: file for path, file in gone.items() if dice.randrange(2)}, **files}.items():
        if path.endswith("-shm") or not (file.named or dice.randrange(2)):
            continue
        file.lose(dice)
        to = into / Path(path).relative_to(queue)
        to.parent.mkdir(parents=True, exist_ok=True)
        to.write_bytes(file.octets)
