"""Unexpected exceptions: logged once with all facts, and named by an id from then on."""

from __future__ import annotations

import math
import time
import traceback
from hashlib import blake2s
from pathlib import Path

from copper_kite.errors import StoreAway
from copper_kite.relay.log import Log

__all__ = ["Faults", "inner_path", "place_of"]

MAX_TRACE = 4000  # characters of a traceback in the log
MAX_TOLD = 1000  # kinds of faults whose traceback is not written again
AWAY_SECONDS = 60.0  # from one word about a database that is away to the next
PACKAGE = "copper_kite"


class Faults:
    """Writes each kind of fault to the log once, with its traceback; after that, one short line for each."""

    def __init__(self, log: Log) -> None:
        self._log = log
        self._told: set[str] = set()
        self._told_away = -math.inf

    def note(self, error: BaseException, **facts: object) -> str:
        """Log a fault. `facts` say what it hit. Returns the words for it: its id, its kind and its place."""
        if isinstance(error, StoreAway):
            return self._note_away(error)
        place = place_of(error)
        kind = type(error).__name__
        id = blake2s(f"{kind} {place}".encode(), digest_size=3).hexdigest().upper()
        words = f"our own fault {id}: {kind} in {place}"
        trace = ""
        if id not in self._told and len(self._told) < MAX_TOLD:
            self._told.add(id)
            trace = "".join(traceback.format_exception(error))[-MAX_TRACE:]
        results = {"fault": id, "kind": kind, "place": place, "text": str(error)[:300], "trace": trace}
        self._log.write("error", "fault", **{**facts, **results})
        return words

    def _note_away(self, error: StoreAway) -> str:
        """The database that servers share does not answer: nobody here is at fault, and it is told once a minute."""
        now = time.monotonic()
        if now - self._told_away > AWAY_SECONDS:
            self._told_away = now
            self._log.write("warning", "database", text=str(error))
        return str(error)


def place_of(error: BaseException) -> str:
    """The innermost line of our own code that the exception passed through, as `relay/lane.py:120`."""
    frames = traceback.extract_tb(error.__traceback__)
    ours = [frame for frame in frames if inner_path(frame.filename)]
    if not frames:
        return "an unknown place"
    frame = (ours or frames)[-1]
    return f"{inner_path(frame.filename) or Path(frame.filename).name}:{frame.lineno}"


def inner_path(file: str) -> str:
    """A file of this package as `relay/lane.py`; empty for any other."""
    parts = Path(file).parts
    return "/".join(parts[len(parts) - parts[::-1].index(PACKAGE) :]) if PACKAGE in parts else ""
