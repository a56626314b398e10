"""Removal of old data: the content of failed messages, and the records of ended ones. A little at a time, beside the
traffic."""

from __future__ import annotations

import asyncio
from collections.abc import Callable

from copper_kite.relay.supervisor import Supervisor
from copper_kite.relay.usage import HOUR, LOOK_BACK
from copper_kite.settings import Settings
from copper_kite.store import DropContent, Forget, ForgetOld, MoveContent, Operation, ServerReads, Submit, Sweep

__all__ = ["Retention"]

AT_A_TIME = 500  # messages in one transaction
MOVED_AT_A_TIME = 1024 * 1024  # octets
AGAIN_SECONDS, SWEEP_SECONDS = 0.5, 600.0  # to the next look while there is more, and else


class Retention:
    """Looks for what need not be kept any longer. `now` gives seconds since 1970."""

    def __init__(
        self, reader: ServerReads, submit: Submit, now: Callable[[], float], settings: Settings, supervisor: Supervisor
    ) -> None:
        self._supervisor = supervisor
        self._reader, self._submit, self._now = reader, submit, now
        self._timer: asyncio.TimerHandle | None = None
        self._failed_until = (0.0, 0, 0)  # the last recipient that failed and has been looked at
        self._stopped = False
        self._waiting: set[int] = set()  # of these, messages that had not ended then
        self.settings = settings

    def sweep(self) -> None:
        """Remove what is old enough, as far as one step goes; the rest follows by itself."""
        if not self._supervisor.run(self._sweep):
            self._again(SWEEP_SECONDS)

    def _sweep(self) -> None:
        now, settings = self._now(), self.settings
        failed, more_failed = self._failed(now - settings.retry.keep_failed)
        # What an allowance counts must stay as long as its period lasts.
        least = min((a.window(now)[0] for entry in settings.connector for a in entry.allowance), default=now)
        before = now - settings.journal.keep
        forgotten = self._reader.forgettable(min(before, least), AT_A_TIME)
        most = settings.journal.max_size
        if most is not None and not forgotten and self._reader.size() > most:
            forgotten = self._reader.forgettable(least, AT_A_TIME)
        moved = self._reader.scattered(MOVED_AT_A_TIME)
        more = more_failed or len(forgotten) == AT_A_TIME or bool(moved)
        operations: list[Operation] = [
            *map(DropContent, failed),
            *(MoveContent(*portion) for portion in moved),
            *map(Forget, forgotten),
            ForgetOld(before, int(now) // HOUR - LOOK_BACK, int(now - settings.journal.keep_counts) // HOUR),
        ]
        if not more:
            operations.append(Sweep())
        self._submit(operations, lambda error: self._again(AGAIN_SECONDS if more and error is None else SWEEP_SECONDS))

    def _again(self, seconds: float) -> None:
        self._cancel()
        if not self._stopped:
            self._timer = self._supervisor.later(seconds, self.sweep)

    def stop(self) -> None:
        """Look no more."""
        self._stopped = True
        self._cancel()

    def _cancel(self) -> None:
        if self._timer is not None:
            self._timer.cancel()

    def _failed(self, before: float) -> tuple[list[int], bool]:
        """Messages whose content is no longer needed, and whether there are more to look at."""
        looked = self._reader.failed_between(self._failed_until, before, AT_A_TIME)
        candidates = self._waiting | {message for _, message, _ in looked}
        dropped = [message for message in candidates if self._reader.has_ended(message, before)]
        self._waiting = candidates - set(dropped)
        if looked:
            self._failed_until = looked[-1]
        return dropped, len(looked) == AT_A_TIME
