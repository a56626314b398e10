"""Small files of the data folder: replaced whole, and for the folder's owner alone."""

from __future__ import annotations

import contextlib
import os
from pathlib import Path

__all__ = ["put_file"]


def put_file(path: Path, text: str) -> None:
    """Put `text` there, so that a reader finds the old file or the new one. Raises OSError."""
    fresh = path.with_name(f".{path.name}")
    fresh.touch(mode=0o600)
    fresh.write_text(text)
    fresh.chmod(0o600)
    owner = path.parent.stat()
    with contextlib.suppress(PermissionError):  # a user other than root is the owner already
        os.chown(fresh, owner.st_uid, owner.st_gid)
    fresh.replace(path)
