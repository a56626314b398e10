"""The health of a server: its own problems that do not go away by themselves, whatever the state of its next hops."""

from __future__ import annotations

import os
from typing import NamedTuple

from copper_kite.settings import Loaded
from copper_kite.store import Note

__all__ = ["Disk", "Problem", "disk_of", "find_problems"]


class Disk(NamedTuple):
    """The disk of the data folder, in octets."""

    free: int
    all: int
    keep_free: int

    @property
    def short(self) -> bool:
        """Whether less is free than is to stay so."""
        return self.free < self.keep_free


class Problem(NamedTuple):
    """A problem, in a word and in a sentence."""

    reason: str
    text: str


def disk_of(loaded: Loaded) -> Disk | None:
    """The disk of the data folder; None where that is not there yet."""
    try:
        result = os.statvfs(loaded.data)
    except OSError:
        return None
    return Disk(result.f_bavail * result.f_frsize, result.f_blocks * result.f_frsize, loaded.settings.server.keep_free)


def find_problems(disk: Disk | None, note: Note | None, faults: int, *, running: bool) -> list[Problem]:
    """The problems; `faults` counts the recipients held by internal errors, `note` is what the server wrote down."""
    problems = []
    if not running:
        problems.append(Problem("stopped", "no server is running"))
    if disk is None:
        problems.append(Problem("folder", "the data folder is not there"))
    elif disk.short:
        text = f"{disk.free} octets are left on the disk, and {disk.keep_free} are to stay free: nothing is taken in"
        problems.append(Problem("disk", text))
    if note is not None and note.newer_refused_at is not None:
        text = "; ".join(("the server refused the configuration as it is in the file now", *note.problems))
        problems.append(Problem("configuration", text))
    if faults:
        problems.append(Problem("faults", f"{faults} recipients are held by faults of this program's own"))
    return problems
