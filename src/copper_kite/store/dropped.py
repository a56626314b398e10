"""The drop folder, where programs leave mail while no server takes it: what it must be, and what lies there.

Every local user may add files, and nobody but the server sees or removes them (mode 1733).
"""

from __future__ import annotations

import os
import re
import stat
from pathlib import Path

__all__ = ["DROP_MODE", "DROP_NAME", "dropped_names", "why_no_drop_folder"]

DROP_MODE = 0o1733
# Of a file: when it was left, in nanoseconds since 1970, and what nobody guesses.
DROP_NAME = re.compile(r"[0-9]{20}-[0-9a-f]{32}")


def why_no_drop_folder(folder: str, owner: int) -> str:
    """Why a folder is no drop folder of this owner; empty when it is one."""
    try:
        result = os.lstat(folder)
    except OSError as error:
        return (error.strerror or str(error)).lower()
    if not stat.S_ISDIR(result.st_mode):
        return "it is no folder"
    if result.st_uid not in (owner, 0):
        return f"it belongs to user {result.st_uid}, and not to the server's, {owner}"
    if result.st_mode & stat.S_IROTH or not result.st_mode & stat.S_ISVTX:
        return f"its mode is {stat.S_IMODE(result.st_mode):o}, and not {DROP_MODE:o}"
    return ""


def dropped_names(folder: Path) -> list[str]:
    """The files that lie there, the oldest first; none where this user may not look."""
    try:
        return sorted(entry.name for entry in folder.iterdir() if DROP_NAME.fullmatch(entry.name))
    except OSError:
        return []
