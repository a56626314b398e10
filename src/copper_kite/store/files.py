"""Small files of the data folder: replaced whole, and for the folder's owner alone."""

from __future__ import annotations

import contextlib
import os
from pathlib import Path

__all__ = ["put_file", "sync_folder"]


def put_file(path: Path, text: str, *, durable: bool = False) -> None:
    """Put `text` there, so that a reader finds the old file or the new one; with `durable` also after a power failure.

    Raises OSError.
    """
    fresh = path.with_name(f".{path.name}")
    fresh.touch(mode=0o600)
    with fresh.open("w") as file:
        file.write(text)
        if durable:
            file.flush()
            os.fsync(file.fileno())
    fresh.chmod(0o600)
    owner = path.parent.stat()
    with contextlib.suppress(PermissionError):  # a user other than root is the owner already
        os.chown(fresh, owner.st_uid, owner.st_gid)
    fresh.replace(path)
    if durable:
        sync_folder(path.parent)


def sync_folder(folder: Path) -> None:
    """Put the names in a folder on stable storage. Raises OSError."""
    descriptor = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    try:
        os.fsync(descriptor)
    finally:
        os.close(descriptor)
