"""Reserved disk space that is released when the disk is full, so that queued messages can still leave.

Every result of an attempt has to be recorded, and that takes room. The file `ballast` in the data folder holds some.
"""

from __future__ import annotations

import contextlib
import os
import shutil
from pathlib import Path

__all__ = ["BALLAST_OCTETS", "Ballast"]

BALLAST_OCTETS = 8 * 1024 * 1024
ROOM_FOR_IT = 4  # times as much must be free, before it is laid in (again)
NAME = "ballast"


class Ballast:
    """The ballast of one data folder. What cannot be done is left: it is no reason to stop."""

    def __init__(self, folder: Path) -> None:
        self._path = folder / NAME

    def lay_in(self) -> None:
        """Take the room, where there is plenty."""
        with contextlib.suppress(OSError):
            if self._path.exists() or shutil.disk_usage(self._path.parent).free < ROOM_FOR_IT * BALLAST_OCTETS:
                return
            file = os.open(self._path, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, 0o600)
            try:
                os.posix_fallocate(file, 0, BALLAST_OCTETS)
            finally:
                os.close(file)

    def give_up(self) -> bool:
        """Release the reserved space; whether there was any."""
        try:
            os.unlink(self._path)  # noqa: PTH108
        except OSError:
            return False
        return True
