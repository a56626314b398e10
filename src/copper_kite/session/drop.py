"""A message in the drop folder: how `kite pipe` leaves it there while no server takes it, and how the server reads it.

Whose a file is says the system, and not the file. It has one line of JSON, the envelope, and the content after it.
"""

from __future__ import annotations

import contextlib
import json
import os
import stat
import time
from collections.abc import Iterator
from typing import IO, NamedTuple
from zlib import crc32

from copper_kite.errors import HandOverFailed, InputError
from copper_kite.session.handover import Parcel
from copper_kite.store import why_no_drop_folder

__all__ = ["Dropped", "leave_message", "open_dropped"]

_NEW = ".new-"
MAX_ENVELOPE = 1024 * 1024  # octets: it is read at once
PORTION = 256 * 1024  # octets read at a time


class Dropped(NamedTuple):
    """A file of the drop folder: its user, its time in seconds since 1970, its envelope, and the octets of its content.

    `content` reads them, once; it raises InputError where they are not what was written.
    """

    uid: int
    at: float
    envelope: Parcel
    octets: int
    content: Iterator[bytes]


def leave_message(folder: str, parcel: Parcel) -> None:
    """Leave a message on stable storage.

    Raises HandOverFailed when that cannot be, InputError for too many recipients.
    """
    problem = why_no_drop_folder(folder, _owner_of(folder))
    if problem:
        raise HandOverFailed(f"the drop folder {folder} cannot be used: {problem}", temporary=True)
    head = _head(parcel)
    if len(head) > MAX_ENVELOPE:
        raise InputError(f"{len(parcel.recipients)} recipients are too many to be left until a server runs")
    name = f"{time.time_ns():020}-{os.urandom(16).hex()}"
    temporary = os.path.join(folder, _NEW + name)  # noqa: PTH118
    try:
        # Others may read it who know its name, and nobody does: the server is another user, and must.
        file = os.open(temporary, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC, 0o644)
        try:
            os.fchmod(file, 0o644)
            with open(file, "wb", closefd=False) as opened:
                opened.write(head)
                opened.write(parcel.content)
            os.fsync(file)
            os.rename(temporary, os.path.join(folder, name))  # noqa: PTH104, PTH118
            _sync_names(folder, file)
        except BaseException:
            with contextlib.suppress(OSError):
                os.unlink(temporary)  # noqa: PTH108
            raise
        finally:
            os.close(file)
    except OSError as error:
        raise HandOverFailed(f"nothing can be left in {folder}: {error.strerror}", temporary=True) from error


def _owner_of(folder: str) -> int:
    """The owner of the new folder: that of its parent, or the user for whom root makes it."""
    try:
        parent = os.stat(os.path.dirname(folder))  # noqa: PTH116, PTH120
        if parent.st_uid == 0 and not parent.st_mode & (stat.S_IWGRP | stat.S_IWOTH):
            return os.lstat(folder).st_uid
    except OSError:
        return 0
    return parent.st_uid


def _sync_names(folder: str, file: int) -> None:
    """Have the new name on stable storage. Who may not read the folder cannot sync it alone, but all of the disk."""
    try:
        opened = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    except PermissionError:
        os.sync()
        return
    try:
        os.fsync(opened)
    finally:
        os.close(opened)


def _head(parcel: Parcel) -> bytes:
    envelope = {
        "from": parcel.sender,
        "to": list(parcel.recipients),
        "asked": parcel.esmtp_parameters,
        "asked_each": parcel.rcpt_parameters,
        "octets": len(parcel.content),
        "crc32": crc32(parcel.content),
    }
    return json.dumps(envelope).encode() + b"\n"


def open_dropped(file: IO[bytes]) -> Dropped:
    """Read a file, opened without following links. Raises InputError for one in another form."""
    result = os.fstat(file.fileno())
    if not stat.S_ISREG(result.st_mode) or result.st_nlink != 1:  # a second name could be another user's file
        raise InputError("it is no plain file of its own")
    line = file.readline(MAX_ENVELOPE)
    try:
        head = json.loads(line)
        parcel = Parcel(
            str(head["from"]), [str(item) for item in head["to"]], b"", str(head["asked"]), str(head["asked_each"])
        )
        octets, checksum = int(head["octets"]), int(head["crc32"])
    except (ValueError, KeyError, TypeError, RecursionError) as error:
        raise InputError("its envelope cannot be read") from error
    if result.st_size != len(line) + octets:
        raise InputError("it is not whole")
    return Dropped(result.st_uid, result.st_mtime, parcel, octets, _portions(file, octets, checksum))


def _portions(file: IO[bytes], octets: int, checksum: int) -> Iterator[bytes]:
    seen, left = 0, octets
    while left:
        portion = file.read(min(PORTION, left))
        if not portion:
            raise InputError("it is not whole")
        seen, left = crc32(portion, seen), left - len(portion)
        if not left and seen != checksum:  # before the last portion: without it, nothing is kept
            raise InputError("its content is not what was written")
        yield portion
