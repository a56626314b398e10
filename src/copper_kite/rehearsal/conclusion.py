"""The verdict on a rehearsal, in a few sentences."""

from __future__ import annotations

import shlex
from collections.abc import Callable, Sequence
from datetime import datetime
from typing import NamedTuple

from copper_kite.clock import span_text
from copper_kite.rehearsal.capacity import Overload, overloads
from copper_kite.rehearsal.figures import Band, Bands, Spent
from copper_kite.rehearsal.instants import DAY, midnight
from copper_kite.rehearsal.scenario import Scenario
from copper_kite.rehearsal.world import Rehearsal, Trouble

__all__ = ["Conclusion", "conclude", "range_text", "short_span", "trouble_text"]

MOST_TOLD = 3  # troubles that a sentence names


class Conclusion(NamedTuple):
    """The verdict: sentences, whether mail is lost or the load is more than can leave, and what to type next."""

    sentences: Sequence[str]
    overloads: Sequence[Overload]
    bad: bool
    next: str


def conclude(rehearsal: Rehearsal, bands: Bands) -> Conclusion:
    """The verdict on some runs."""
    over = overloads(rehearsal, bands.offered)
    expired, largest = bands.figures["expired"], bands.figures["largest_queue"]
    assert expired is not None and largest is not None
    sentences = [_queue(rehearsal, bands, largest), *_empty(rehearsal, bands), _late(bands, expired)]
    if bands.spent:
        sentences.append(_spent(rehearsal, bands.spent))
    sentences += [
        f"More comes than can ever leave: {item.connector} gets {item.comes:,.0f} recipients an hour, and its "
        f"{item.limit} takes {item.takes:,.0f}; {item.would_do} would do."
        for item in over
    ]
    return Conclusion(sentences, over, bool(over) or expired.high >= 0.5, _next(rehearsal, bands, over))


def trouble_text(trouble: Trouble) -> str:
    """A trouble in words, as in `beacon is down from Mon 08:00 to 14:00`."""
    if trouble.kind == "burst":
        return f"{trouble.name} come at {day_time(trouble.since)}"
    kind = {"down": "is down", "slow": "is slow", "refused": "is refused"}[trouble.kind]
    same_day = midnight(trouble.since) == midnight(trouble.until - 1)
    until = datetime.fromtimestamp(trouble.until).strftime("%H:%M" if same_day else "%a %H:%M")
    return f"{trouble.name} {kind} from {day_time(trouble.since)} to {until}"


def day_time(at: float) -> str:
    """A weekday and a time."""
    return datetime.fromtimestamp(at).strftime("%a %H:%M")


def range_text(band: Band, form: Callable[[float], str] = "{:,.0f}".format) -> str:
    """The median, with the band where it is wider than what is shown."""
    low, median, high = form(band.low), form(band.median), form(band.high)
    return median if low == high else f"{median} ({low}–{high})"


def short_span(seconds: float) -> str:
    """A span as exactly as anybody needs it: `0.25 s`, `45s`, `9m4s`, `5h28m`."""
    if seconds < 10:
        return f"{seconds:.2f} s" if seconds > 0 else "0s"
    return span_text(round(seconds / 60) * 60.0 if seconds >= 3600 else seconds)


def _queue(rehearsal: Rehearsal, bands: Bands, largest: Band) -> str:
    troubles = " and ".join(map(trouble_text, rehearsal.troubles_over[:MOST_TOLD]))
    at = bands.figures["largest_at"]
    when = f", at {day_time(at.median)}" if at is not None else ""
    longest = f"the queue is {range_text(largest)} recipients at its longest{when}"
    return f"{troubles[:1].upper() + troubles[1:]}: {longest}." if troubles else f"{longest[0].upper()}{longest[1:]}."


def _empty(rehearsal: Rehearsal, bands: Bands) -> list[str]:
    after, at = bands.figures["empty_after"], bands.figures["empty_at"]
    if after is None or at is None:
        never = "The queue is not as short as usual again before all mail has ended."
        return [never] if rehearsal.troubles_over else []
    since = "after that" if rehearsal.troubles_over else "after it was longest"
    return [
        f"The queue is empty, or as short as usual, {range_text(after, short_span)} {since}, at {day_time(at.median)}."
    ]


def _late(bands: Bands, expired: Band) -> str:
    submitted, relayed, notices = (bands.figures[name] for name in ("submitted", "relayed", "notices"))
    p50, p95 = bands.figures["delay_p50"], bands.figures["delay_p95"]
    assert submitted is not None and relayed is not None and notices is not None
    told = f"{range_text(notices)} notices go to senders" if notices.high >= 0.5 else "no sender gets a notice"
    lost = f"{range_text(expired)} recipients expire" if expired.high >= 0.5 else "nothing expires"
    if p50 is None or p95 is None:
        return f"None of {submitted.median:,.0f} recipients is relayed; {told}, and {lost}."
    return (
        f"{relayed.median:,.0f} of {submitted.median:,.0f} recipients are relayed, half of them within "
        f"{short_span(p50.median)} and 95 % within {short_span(p95.median)}; {told}, and {lost}."
    )


def _spent(rehearsal: Rehearsal, spent: Sequence[Spent]) -> str:
    names = sorted({item.connector for item in spent})
    days = {midnight(item.since) for item in spent if item.since < rehearsal.until}
    share = f"on {len(days)} of {max(round((rehearsal.until - rehearsal.since) / DAY), 1)} days"
    first = spent[0]
    return (
        f"The allowance of {' and '.join(names)} is used up {share}, first from {day_time(first.since)} "
        f"to {day_time(first.until)}."
    )


def _next(rehearsal: Rehearsal, bands: Bands, over: Sequence[Overload]) -> str:
    """The command that looks for a value by which it would be better; empty where no setting would help."""
    value = goal = ""
    after, noticed, p95 = (bands.figures[name] for name in ("empty_after", "noticed_after", "delay_p95"))
    if over and over[0].limit in ("sessions", "allowance"):
        value, goal = f"{over[0].connector}.{over[0].limit}", "p95 delay < 10m"
    elif not over and bands.spent and p95 is not None and p95.median > 600:
        value, goal = f"{bands.spent[0].connector}.allowance", "p95 delay < 10m"
    elif not over and after is not None and noticed is not None and noticed.median > max(after.median / 2, 60.0):
        value, goal = "waits", f"empty after < {span_text(_half(after.median))}"
    if not value:
        return ""
    return shlex.join(["kite", "rehearse", *_as_options(rehearsal.scenario), "--find", value, "--goal", goal])


def _half(seconds: float) -> float:
    """About half of it, in whole minutes or hours."""
    unit = 3600.0 if seconds > 4 * 3600 else 60.0
    return max(round(seconds / 2 / unit), 1) * unit


def _as_options(scenario: Scenario) -> list[str]:
    """The scenario as one would type it."""
    return [word for name, texts in scenario.written.items() if name != "title" for text in texts
            for word in (f"--{name}", text)]  # fmt: skip
