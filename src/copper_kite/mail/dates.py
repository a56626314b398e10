"""Dates of header fields, as they are met (RFC 5322 3.3, and the obsolete forms of 4.3)."""

from __future__ import annotations

import re
from datetime import UTC, datetime, timedelta
from typing import NamedTuple

from copper_kite.clock import has_date
from copper_kite.mail.tokens import without_comments

__all__ = ["When", "parse_date"]

_NAMES = ("jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec")
_MONTHS = {name: number for number, name in enumerate(_NAMES, 1)}
_ZONES = {"ut": 0, "gmt": 0, "utc": 0, "est": -5, "edt": -4, "cst": -6, "cdt": -5, "mst": -7, "mdt": -6, "pst": -8,
          "pdt": -7}  # fmt: skip
_DATE = re.compile(
    r"(?:[A-Za-z]{3,9}\s*,?\s+)?(\d{1,2})\s*[ -]\s*([A-Za-z]{3})[a-z]*\s*[ -]\s*(\d{2,4})"
    r"\s+(\d{1,2})\s*:\s*(\d{2})(?:\s*:\s*(\d{2}))?(?:\.\d+)?\s*([+-]\d{4}|[A-Za-z]{1,5})?"
)
LEAP = 60  # a second that only some clocks know


class When(NamedTuple):
    """Seconds since 1970, or None with the `fault`; `zone_known` is False where the zone says nothing (`-0000`)."""

    at: float | None
    zone_known: bool = True
    fault: str = ""


def parse_date(text: str) -> When:
    """Parse a date. Raises nothing: an invalid date has a `fault`."""
    match = _DATE.match(" ".join(without_comments(text).split()))
    if match is None:
        return When(None, fault="no date" if not text.strip() else "not a date")
    day, month_name, year_text, hour, minute, second, zone = match.groups()
    month, year = _MONTHS.get(month_name.lower()), int(year_text)
    if month is None:
        return When(None, fault=f"no month {month_name!r}")
    if len(year_text) == 2:
        year += 2000 if year < 50 else 1900
    elif len(year_text) == 3:
        year += 1900
    seconds = int(second or 0)
    if seconds > LEAP:
        return When(None, fault="no such time")
    offset, known = _offset(zone or "")
    try:
        at = datetime(year, month, int(day), int(hour), int(minute), tzinfo=UTC) - timedelta(minutes=offset)
    except (ValueError, OverflowError):
        return When(None, fault="no such day or time")
    if not has_date(at.timestamp()):
        return When(None, fault="no such day or time")
    return When(at.timestamp() + seconds, known)


def _offset(zone: str) -> tuple[int, bool]:
    """Minutes east, and whether that is known; letters and unknown names say nothing (RFC 5322 4.3)."""
    if zone[:1] in ("+", "-") and zone:
        minutes = int(zone[1:3]) * 60 + int(zone[3:])
        return (-minutes if zone[0] == "-" else minutes), zone != "-0000"
    hours = _ZONES.get(zone.lower())
    return (0, False) if hours is None else (hours * 60, True)
