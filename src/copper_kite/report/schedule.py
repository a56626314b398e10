"""When a report is due that the server sends by itself, and on which period."""

from __future__ import annotations

from datetime import datetime, timedelta

from copper_kite.report.period import Period, one_day, since_until
from copper_kite.settings import ReportSettings

__all__ = ["last_due", "period_before"]


def last_due(settings: ReportSettings, now: float) -> float:
    """The last instant up to `now` at which a report was due, in seconds since 1970."""
    here = datetime.fromtimestamp(now)
    due = here.replace(hour=settings.hour, minute=settings.minute, second=0, microsecond=0)
    if settings.every == "week":
        due -= timedelta(days=due.weekday())  # on Monday
    elif settings.every == "month":
        due = due.replace(day=1)
    if due > here:
        due = _earlier(settings, due)
    return due.timestamp()


def _earlier(settings: ReportSettings, due: datetime) -> datetime:
    if settings.every == "month":
        return (due - timedelta(days=1)).replace(day=1)
    return due - timedelta(days=7 if settings.every == "week" else 1)


def period_before(settings: ReportSettings, due: float) -> Period:
    """The local day, week from Monday, or month that had ended when a report was due."""
    end = datetime.fromtimestamp(due).replace(hour=0, minute=0)
    begin = _earlier(settings, end)
    if settings.every == "day":
        return one_day(begin.timestamp())
    result = since_until(begin.timestamp(), end.timestamp())
    title = f"{begin:%B %Y}" if settings.every == "month" else f"the week from {begin:%d %B %Y}"
    return Period(result.since, result.until, title)
