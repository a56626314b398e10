"""The scheduled report: made when it is due, unless the journal says that it was sent."""

from __future__ import annotations

import base64
from typing import Any

from copper_kite.report import last_due, make_report, period_before, report_message
from copper_kite.settings import Loaded
from copper_kite.store import open_store
from copper_kite.words import Event

__all__ = ["DueReport"]

RETRY_SECONDS = 600.0  # after one was made of which the journal still says nothing


class DueReport:
    """Makes each report once, or again where the server could not keep it."""

    def __init__(self, loaded: Loaded) -> None:
        self._loaded = loaded
        self._settled = 0.0  # the last instant of which nothing is due any more
        self._again_at = 0.0

    def make_if_due(self, now: float) -> dict[str, Any] | None:
        """The report to send: `to`, the `period` in words, the message in base64; None when none is due.

        `now` in seconds since 1970. Raises StoreError, and ImportError without the extra `report`.
        """
        settings = self._loaded.settings.report
        if not settings.to or now < self._again_at:
            return None
        due = last_due(settings, now)
        if due <= self._settled:
            return None
        with open_store(self._loaded.store).reader() as reader:
            if reader.noted(Event.REPORTED, due):
                self._settled = due
                return None
            self._again_at = now + RETRY_SECONDS
            report = make_report(reader, self._loaded, period_before(settings, due), now)
        sender, server = self._loaded.postmaster, self._loaded.server_name
        content = report_message(report, server, sender=sender, to=settings.to, id=f"{int(due):x}")
        return {"to": settings.to, "period": report.period.title, "content": base64.b64encode(content).decode()}
