"""Whether the data folder still is the one that was opened: writes into deleted files would be lost."""

from __future__ import annotations

import os
from pathlib import Path

from copper_kite.store.sqlite.schema import DATABASE

__all__ = ["Witness"]


class Witness:
    """Remembers which files the folder's names meant when it was made."""

    def __init__(self, folder: Path) -> None:
        self._paths = [str(folder / name) for name in (DATABASE, f"{DATABASE}-wal")]
        self._seen = [_identity(path) for path in self._paths]

    def gone(self) -> str:
        """The first file that is not there any more, or is another one; empty when all is well."""
        for number, path in enumerate(self._paths):
            result, seen = _identity(path), self._seen[number]
            if seen is None:
                self._seen[number] = result  # it came since: the log does, with the first look at the database
            elif result != seen:
                return path
        return ""


def _identity(path: str) -> tuple[int, int] | None:
    try:
        result = os.stat(path)  # noqa: PTH116
    except OSError:
        return None
    return result.st_dev, result.st_ino
