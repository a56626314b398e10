"""Submissions that were refused: into the journal at once, and while more come, counted for a few seconds, so that no
flood fills it."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from typing import NamedTuple

from copper_kite.store import JournalEntry, Transaction, WriteEntry
from copper_kite.words import Event

__all__ = ["Refusal", "Refusals"]

SECONDS = 2.0  # from one time to the next while there are as many kinds as may be; with fewer, it is sooner
SOONEST = 0.1
MAX_KINDS = 500  # different ones noted at a time; the rest is counted as others


class Refusal(NamedTuple):
    """A refusal: the listener, the client, the reply; `account` is the one that was tried."""

    listener: str
    who: str
    stage: str
    reply: str
    account: str = ""


OTHERS = Refusal("", "others", "", "")


class Refusals:
    """Refusals; `write` writes a transaction, `told` is called for each kind, `now` is in seconds since 1970."""

    def __init__(
        self, write: Callable[[Transaction], None], now: Callable[[], float], told: Callable[[Refusal, int], None]
    ) -> None:
        self._told = told
        self._write = write
        self._now = now
        self._counts: dict[Refusal, int] = {}
        self._last: dict[Refusal, dict[str, str]] = {}
        self._timer: asyncio.TimerHandle | None = None
        self._next_flush = 0.0  # on the loop's clock, the earliest

    def note(self, refusal: Refusal, **example: str) -> None:
        """Count a refusal; `example` (sender, recipient, hello) are its details."""
        if refusal not in self._counts and len(self._counts) >= MAX_KINDS:
            refusal, example = OTHERS, {}
        self._counts[refusal] = self._counts.get(refusal, 0) + 1
        self._last[refusal] = example
        if self._timer is None:
            loop = asyncio.get_running_loop()
            self._timer = loop.call_later(max(0.0, self._next_flush - loop.time()), self._flush_in_turn)

    def _flush_in_turn(self) -> None:
        kinds = len(self._counts)
        self._next_flush = asyncio.get_running_loop().time() + max(SOONEST, SECONDS * kinds / MAX_KINDS)
        self.flush()

    def flush(self) -> None:
        """Write the collected refusals."""
        if self._timer is not None:
            self._timer.cancel()
            self._timer = None
        if not self._counts:
            return
        counts, last = self._counts, self._last
        self._counts, self._last = {}, {}
        now = self._now()
        entries = [
            JournalEntry(
                at=now,
                event=Event.REFUSED,
                facts={**refusal._asdict(), "count": count, **{k: v for k, v in last[refusal].items() if v}},
            )
            for refusal, count in counts.items()
        ]
        self._write([WriteEntry(entry) for entry in entries])
        for refusal, count in counts.items():
            self._told(refusal, count)
