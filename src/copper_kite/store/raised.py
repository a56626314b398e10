"""The alarms whose condition holds: a file of the data folder, written by the server and read by commands."""

from __future__ import annotations

import json
from collections.abc import Iterable
from pathlib import Path
from typing import NamedTuple

from copper_kite.store.files import put_file

__all__ = ["RaisedAlarm", "read_alarms", "write_alarms"]

NAME = "alarms.json"


class RaisedAlarm(NamedTuple):
    """An alarm whose condition holds `since` an instant; `notified_at` is when its last event was sent, None while the
    condition has not held long enough. Instants in seconds since 1970."""

    name: str
    since: float
    notified_at: float | None
    text: str


def read_alarms(folder: Path) -> list[RaisedAlarm]:
    """The alarms in the file; none where no file can be read."""
    try:
        return [RaisedAlarm(*item) for item in json.loads((folder / NAME).read_text())]
    except (OSError, ValueError, TypeError):
        return []


def write_alarms(folder: Path, alarms: Iterable[RaisedAlarm]) -> None:
    """Put the file into `folder`, whole. Raises OSError."""
    put_file(folder / NAME, json.dumps(list(alarms)))
