"""Instants of a scenario, as `09:00`, `mon-08:00` or a date, and the first day of a rehearsal."""

from __future__ import annotations

import re
from datetime import datetime, timedelta
from typing import NamedTuple

__all__ = ["DAY", "When", "first_day", "midnight", "parse_when", "weekday_of"]

DAY = 86400.0
WEEKDAYS = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")
_TIME = re.compile(r"(?:([a-z]{3})-)?(\d{1,2}):(\d\d)")


class When(NamedTuple):
    """Seconds after midnight, of the first day or of the first such weekday (Monday is 0) from then on; or seconds
    since 1970, where a date was named."""

    seconds: float
    weekday: int | None = None
    absolute: bool = False

    def instant(self, start: float) -> float:
        """Seconds since 1970, in a rehearsal that starts at `start`; local time."""
        if self.absolute:
            return self.seconds
        day = datetime.fromtimestamp(start).replace(hour=0, minute=0, second=0, microsecond=0)
        if self.weekday is not None:
            day += timedelta(days=(self.weekday - day.weekday()) % 7)
        return (day + timedelta(seconds=self.seconds)).timestamp()


def weekday_of(text: str) -> int | None:
    """The number of a weekday, `mon` to `sun`; None for anything else."""
    short = text.lower()[:3]
    return WEEKDAYS.index(short) if short in WEEKDAYS and text.isalpha() else None


def parse_when(text: str) -> When:
    """`09:00`, `mon-08:00`, `2026-12-01 08:00`. Raises ValueError."""
    match = _TIME.fullmatch(text.strip().lower())
    if match is not None:
        weekday = weekday_of(match[1]) if match[1] else None
        hour, minute = int(match[2]), int(match[3])
        if hour < 24 and minute < 60 and (weekday is not None or not match[1]):
            return When(hour * 3600.0 + minute * 60.0, weekday)
    else:
        try:
            return When(datetime.fromisoformat(text.strip()).timestamp(), absolute=True)
        except (ValueError, OverflowError):
            pass
    raise ValueError(f"{text!r} is no time; write it as 09:00, mon-08:00 or 2026-12-01 08:00")


def midnight(at: float, days: int = 0) -> float:
    """The midnight (local time) before an instant, or so many days later."""
    day = datetime.fromtimestamp(at).replace(hour=0, minute=0, second=0, microsecond=0)
    return (day + timedelta(days=days)).timestamp()


def first_day(text: str, whens: list[When], now: float) -> float:
    """The midnight at which a rehearsal starts: the day named, else the first day that an instant names, else tomorrow.

    Raises ValueError.
    """
    if text:
        weekday = weekday_of(text)
        if weekday is None:
            return midnight(parse_when(text).seconds if ":" in text else datetime.fromisoformat(text).timestamp())
        return _next_weekday(weekday, now)
    days = [midnight(when.seconds) for when in whens if when.absolute]
    days += [_next_weekday(when.weekday, now) for when in whens if when.weekday is not None]
    return min(days, default=midnight(now, 1))


def _next_weekday(weekday: int, now: float) -> float:
    tomorrow = datetime.fromtimestamp(midnight(now, 1))
    return midnight(tomorrow.timestamp(), (weekday - tomorrow.weekday()) % 7)
