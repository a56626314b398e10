"""The hours that a report is about, and those that it is compared with."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta

__all__ = ["HOUR", "Period", "last_days", "one_day", "since_until"]

HOUR = 3600


@dataclass(frozen=True, slots=True)
class Period:
    """The hours (since 1970) from `since` to before `until`; `title` says it in words."""

    since: int
    until: int
    title: str

    @property
    def hours(self) -> int:
        """How many there are."""
        return self.until - self.since

    @property
    def before(self) -> Period:
        """The period of the same length right before."""
        return Period(self.since - self.hours, self.since, "the period before")

    @property
    def start(self) -> float:
        """Seconds since 1970."""
        return float(self.since * HOUR)

    @property
    def end(self) -> float:
        """Seconds since 1970."""
        return float(self.until * HOUR)


def one_day(day: float) -> Period:
    """The local day that an instant lies in."""
    begin = datetime.fromtimestamp(day).replace(hour=0, minute=0, second=0, microsecond=0)
    end = begin + timedelta(days=1)  # a local day may have 23 or 25 hours
    return Period(_hour(begin.timestamp()), _hour(end.timestamp()), f"{begin:%A, %d %B %Y}")


def last_days(days: int, now: float) -> Period:
    """So many days up to the hour that runs, with it."""
    until = _hour(now) + 1
    words = {1: "the last 24 hours", 7: "the last 7 days"}.get(days, f"the last {days} days")
    return Period(until - days * 24, until, words)


def since_until(since: float, until: float) -> Period:
    """The period from one instant to another, in whole hours. Raises ValueError for an empty one."""
    if until <= since:
        raise ValueError("the period ends before it begins")
    return Period(_hour(since), max(_hour(until - 1) + 1, _hour(since) + 1), "the period")


def _hour(at: float) -> int:
    return int(at) // HOUR
