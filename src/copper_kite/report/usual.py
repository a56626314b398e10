"""Unusual senders: a seasonal baseline by the hour of the week, which a few odd weeks do not move.

For each hour of the period, what a sender sent in the same hour of the week is taken from the eight weeks before. Its
median is what is expected of that hour; its median absolute deviation, times 1.4826 (which makes it a standard
deviation where the values are normal), with the square root of the expected number (as of a Poisson process), is how
far it usually strays. Expected numbers and variances of all hours are added. A sender is reported when it is more than
four of the resulting deviations off, and at least twenty recipients.
"""

from __future__ import annotations

import math
from collections import defaultdict
from statistics import median

from copper_kite.report.model import Unusual
from copper_kite.report.period import Period
from copper_kite.store import CountFilter, Reader

__all__ = ["unusual_senders"]

WEEK = 168  # hours
WEEKS = 8
FEWEST_WEEKS = 3  # that counts must reach back, or nothing is usual yet
FAR = 4.0  # deviations
LEAST = 20  # recipients
NORMAL = 1.4826


def unusual_senders(reader: Reader, period: Period, now: float, only: CountFilter) -> list[Unusual]:
    """The senders that differ from their usual numbers, the largest difference first."""
    until = min(period.until, int(now) // 3600)  # the hour that runs is not over
    if until <= period.since:
        return []
    hours = until - period.since
    sent: dict[str, dict[int, int]] = defaultdict(lambda: defaultdict(int))
    first = None
    counts = reader.summed_counts(period.since - WEEKS * WEEK, until, ("who", "hour"), only, "accepted")
    for who, hour, recipients, _ in counts:
        first = hour if first is None else min(first, hour)
        sent[who][hour] += recipients
    weeks = 0 if first is None else min((period.since - first) // WEEK, WEEKS)
    if weeks < FEWEST_WEEKS:
        return []
    results = [_compared(who, counts, period.since, hours, weeks) for who, counts in sent.items()]
    unusual = [sender for sender, far in results if far and abs(sender.sent - sender.expected) >= LEAST]
    return sorted(unusual, key=lambda sender: -abs(sender.sent - sender.expected))


def _compared(who: str, counts: dict[int, int], since: int, hours: int, weeks: int) -> tuple[Unusual, bool]:
    """The number a sender sent, the number expected, and whether the difference is large."""
    total = variance = 0.0
    for hour in range(since, since + hours):
        before = [counts.get(hour - week * WEEK, 0) for week in range(1, weeks + 1)]
        expected = median(before)
        total += expected
        variance += (NORMAL * median(abs(item - expected) for item in before)) ** 2 + expected
    deviation = math.sqrt(variance)
    sent = sum(counts.get(since + hour, 0) for hour in range(hours))
    reach = FAR * max(deviation, 1.0)
    return Unusual(who, sent, total, max(total - reach, 0.0), total + reach), abs(sent - total) > reach
