"""The lock of the data folder: one server at a time, with a note of which one."""

from __future__ import annotations

import contextlib
import fcntl
import json
import os
import time
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import IO

from copper_kite.errors import FolderInUse, StoreError
from copper_kite.store.ballast import Ballast
from copper_kite.store.files import put_file

__all__ = ["FolderLock", "Note", "Running", "read_note", "running_server", "write_note"]

LOCK = "server.lock"
NOTE = "server.json"
LET_GO_SECONDS = 10.0  # what the writing process of a server that was killed may take to finish


@dataclass(frozen=True, slots=True)
class Running:
    """The server that holds the folder. `since` in seconds since 1970."""

    pid: int
    since: float


class FolderLock:
    """Held from start to stop; the system lets go of it when the server dies, however it dies.

    It dies with its last process: what a killed server left to be written is written before the next one begins.
    """

    def __init__(self, folder: Path, since: float) -> None:
        """Raises FolderInUse when another server holds it, StoreError when the folder cannot be written."""
        try:
            folder.mkdir(mode=0o700, parents=True, exist_ok=True)
            self._file: IO[str] = (folder / LOCK).open("a+")
        except OSError as error:
            remedy = "run as its owner, or name another folder in [server] data"
            raise StoreError(str(folder), f"not writable ({error.strerror})", remedy) from error
        patience = time.monotonic() + LET_GO_SECONDS
        while not self._locked():
            running = _read(self._file)
            if running is None or _alive(running.pid) or time.monotonic() > patience:
                self._file.close()
                raise FolderInUse(str(folder), running.pid if running else None)
            time.sleep(0.01)
        facts = json.dumps({"pid": os.getpid(), "since": since})
        kept_out = self._note(facts)
        if kept_out is not None and Ballast(folder).give_up():
            kept_out = self._note(facts)
        if kept_out is not None:
            self._file.close()
            raise StoreError(str(folder), f"not writable ({kept_out.strerror})", "see whether its disk is full")

    def _note(self, facts: str) -> OSError | None:
        """Say who holds it; what kept that from being written."""
        self._file.truncate(0)
        try:
            os.write(self._file.fileno(), facts.encode())
        except OSError as error:
            return error
        return None

    def _locked(self) -> bool:
        try:
            fcntl.flock(self._file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            return False
        return True

    def fileno(self) -> int:
        """The descriptor for the process that must hold the lock, too."""
        return self._file.fileno()

    def close(self) -> None:
        """Release the folder for the next server."""
        self._file.truncate(0)
        self._file.close()


def _read(file: IO[str]) -> Running | None:
    try:
        file.seek(0)
        facts = json.load(file)
        return Running(int(facts["pid"]), float(facts["since"]))
    except (ValueError, KeyError, TypeError):
        return None


def _alive(pid: int) -> bool:
    try:
        os.kill(pid, 0)
    except ProcessLookupError:
        return False
    except PermissionError:
        pass
    return True


def running_server(folder: Path) -> Running | None:
    """The server that holds `folder` now, or None. Raises StoreError when that cannot be seen.

    A server that was killed is none, though its writing process may hold the lock for a moment more.
    """
    try:
        with (folder / LOCK).open("r") as file:
            try:
                fcntl.flock(file, fcntl.LOCK_SH | fcntl.LOCK_NB)
            except BlockingIOError:
                running = _read(file)
                return running if running is not None and _alive(running.pid) else None
            return None
    except FileNotFoundError:
        return None
    except OSError as error:
        raise StoreError(str(folder), f"cannot be read ({error.strerror})", "run as the server's user") from error


@dataclass(frozen=True, slots=True)
class Note:
    """The configuration that a running server uses: its text and since when; and any newer one that it refused."""

    source: str
    taken_at: float
    refused_at: float | None = None
    problems: tuple[str, ...] = ()

    @property
    def newer_refused_at(self) -> float | None:
        """When the server refused a newer configuration than the one that it uses; None if it did not."""
        at = self.refused_at
        return at if at is not None and at > self.taken_at else None


def write_note(folder: Path, note: Note) -> None:
    """Put the note into `folder`, whole; a server that cannot write it continues."""
    with contextlib.suppress(OSError):
        put_file(folder / NOTE, json.dumps(asdict(note)))


def read_note(folder: Path) -> Note | None:
    """The note of the server that runs, or ran last; None when there is none that can be read."""
    try:
        facts = json.loads((folder / NOTE).read_text())
        return Note(facts["source"], facts["taken_at"], facts["refused_at"], tuple(facts["problems"]))
    except (OSError, ValueError, KeyError, TypeError):
        return None
