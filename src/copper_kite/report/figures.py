"""The figures of a report, as SVG: drawn with Matplotlib, coloured by the style sheet of the page that they stand in.

Matplotlib writes colours into the SVG. Here they are placeholders, which become variables of the page (`var(--ink)`),
so that one figure is right on a light and on a dark ground, and in print. Text stays text.
"""

from __future__ import annotations

import io
import re
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from datetime import datetime, timedelta
from typing import TYPE_CHECKING, Any, NamedTuple

from copper_kite.clock import span_text
from copper_kite.report.delays import quantile
from copper_kite.report.model import Report
from copper_kite.store import step_of_delay

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure as Canvas

__all__ = ["Colours", "Figure", "date_axis", "figures"]

HOUR, DAY = 3600, 86400
LONG = 14 * 24  # hours; a longer period is drawn by the day
MOST_BARS = 8
MOST_TICKS = 4
WEEKDAYS = ("Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun")
TICKS = (1, 10, 60, 600, 3600, 21600, 86400)  # seconds
TICK_WORDS = ("1 s", "10 s", "1 min", "10 min", "1 h", "6 h", "1 d")


class Colours(NamedTuple):
    """The colours of the figures."""

    ink: str
    grid: str
    first: str
    second: str
    third: str
    shade: str


# Placeholders that nothing else has: they become variables of the page.
OF_THE_PAGE = Colours("#010203", "#010204", "#010205", "#010206", "#010207", "#010208")
ON_WHITE = Colours("#1d2329", "#d4dae0", "#0072b2", "#b36b00", "#c1440e", "#f0c36d")
Draw = Callable[[Any, Any, Colours], None]


class Figure(NamedTuple):
    """A figure: its title, what it shows in words (for those who do not see it), and how its `subject` is drawn."""

    title: str
    words: str
    subject: Any
    draw: Draw
    size: tuple[float, float]  # inches

    @property
    def svg(self) -> str:
        """Draw it as SVG, in the colours of the page around it."""
        out = io.StringIO()
        self._save(OF_THE_PAGE, out, format="svg", transparent=True, metadata={"Date": None})
        svg = out.getvalue()
        svg = svg[svg.index("<svg") :]
        for name, placeholder in OF_THE_PAGE._asdict().items():
            svg = svg.replace(placeholder, f"var(--{name})")
        without_height = re.sub(r'(<svg[^>]*?) height="[^"]*"', r"\1", svg)
        return re.sub(r'(<svg[^>]*?) (?:width|height)="[^"]*"', r"\1", without_height)

    @property
    def png(self) -> bytes:
        """Draw it as PNG on white, for mail programs, which show no SVG."""
        out = io.BytesIO()
        self._save(ON_WHITE, out, format="png", dpi=110, facecolor="white")
        return out.getvalue()

    def _save(self, colours: Colours, out: io.StringIO | io.BytesIO, **how: Any) -> None:
        from matplotlib.figure import Figure as New

        with _style(colours):
            canvas = New(figsize=self.size, layout="constrained")
            self.draw(canvas, self.subject, colours)
            canvas.savefig(out, **how)


def figures(report: Report) -> list[Figure]:
    """The figures that have data; drawing one raises ImportError where Matplotlib is missing."""
    known: tuple[tuple[object, str, Callable[[Report], str], Draw, tuple[float, float]], ...] = (
        (any(report.by_hour["accepted"]), "Traffic and waits", _traffic_words, _traffic, (9.0, 5.0)),
        (any(map(any, report.by_week)), "When mail comes in", _week_words, _week, (9.0, 2.8)),
        (report.delay_steps, "From submission to relay", _delay_words, _delays, (9.0, 2.6)),
        (report.reasons, "Delayed and failed, by reason", _reason_words, _reasons, (9.0, 2.8)),
        (report.domains, "Relayed, by domain", _domain_words, _domains, (9.0, 2.8)),
    )
    return [Figure(title, words(report), report, draw, size) for drawn, title, words, draw, size in known if drawn]


@contextmanager
def _style(colours: Colours) -> Iterator[None]:
    import matplotlib as mpl

    with mpl.rc_context(
        {
            "svg.fonttype": "none", "svg.hashsalt": "kite", "font.family": "sans-serif", "font.size": 10,
            "text.color": colours.ink, "axes.labelcolor": colours.ink, "xtick.color": colours.ink,
            "ytick.color": colours.ink, "axes.edgecolor": colours.grid,
            "axes.spines.top": False, "axes.spines.right": False, "axes.grid": True, "axes.grid.axis": "y",
            "axes.axisbelow": True, "grid.color": colours.grid, "grid.linewidth": 0.6, "legend.frameon": False,
        }
    ):  # fmt: skip
        yield


# --- what is drawn --------------------------------------------------------------------------------------------------


def _summed(report: Report, outcome: str) -> tuple[list[datetime], list[int], int]:
    """When each bar begins, its recipients, and its hours."""
    hours = report.by_hour[outcome]
    step = 24 if len(hours) > LONG else 1
    starts = range(0, len(hours), step)
    times = [datetime.fromtimestamp(report.period.start + at * HOUR) for at in starts]
    return times, [sum(hours[at : at + step]) for at in starts], step


def _traffic(canvas: Canvas, report: Report, colours: Colours) -> None:
    above, below, waits = canvas.subplots(3, 1, sharex=True, height_ratios=(3, 1.3, 1.3))
    times, relayed, step = _summed(report, "relayed")
    width = step / 24 * 0.9
    above.bar(times, relayed, width=width, align="edge", color=colours.first)
    above.set_ylabel(f"relayed {'a day' if step > 1 else 'an hour'}")
    bottom = [0] * len(times)
    for outcome, colour in (("delayed", colours.second), ("failed", colours.third)):
        _, counts, _ = _summed(report, outcome)
        below.bar(times, counts, width=width, bottom=bottom, align="edge", color=colour, label=outcome)
        bottom = [a + b for a, b in zip(bottom, counts, strict=True)]
    for number, outage in enumerate(report.outages):
        begin, end = max(outage.since, report.period.start), min(outage.until or report.now, report.period.end)
        for axes in (above, below, waits):
            label = "a next hop was down" if axes is below and not number else None
            axes.axvspan(_local(begin), _local(end), color=colours.shade, alpha=0.4, zorder=0, label=label)
    below.legend(loc="lower left", bbox_to_anchor=(0.0, 1.0), ncols=3, fontsize=9)
    _draw_waits(waits, report, step, times, colours)
    waits.set_xlim(_local(report.period.start), _local(report.period.end))
    date_axis(waits)


def _draw_waits(axes: Axes, report: Report, step: int, times: Sequence[datetime], colours: Colours) -> None:
    """Within how long 99 of 100 were relayed that were relayed in each bar's hours."""
    hours = report.delay_steps_by_hour
    sums = [sum(map(Counter, hours[at : at + step]), Counter[int]()) for at in range(0, len(hours), step)]
    known = [(when, quantile(steps, 0.99)) for when, steps in zip(times, sums, strict=False) if steps]
    middles: list[Any] = [when + timedelta(hours=step) / 2 for when, _ in known]
    axes.plot(middles, [wait for _, wait in known], ".-", color=colours.first, linewidth=1)
    highest = 2 * max((wait for _, wait in known), default=1.0)
    ticks = [(at, word) for at, word in zip((0, *TICKS), ("0", *TICK_WORDS), strict=True) if at <= highest]
    ticks = ticks[::2] if len(ticks) > MOST_TICKS else ticks
    axes.set_yscale("symlog", linthresh=1.0)
    axes.set_yticks([at for at, _ in ticks], [word for _, word in ticks])
    axes.set_ylim(0, highest)
    axes.minorticks_off()
    axes.set_ylabel("99 % within")


def date_axis(axes: Axes) -> None:
    """Have the axis of time show as few words as it takes."""
    from matplotlib.dates import AutoDateLocator, ConciseDateFormatter

    locator = AutoDateLocator(minticks=4, maxticks=10)  # type: ignore[no-untyped-call]
    axes.xaxis.set_major_locator(locator)
    axes.xaxis.set_major_formatter(ConciseDateFormatter(locator, show_offset=False))  # type: ignore[no-untyped-call]


def _local(at: float) -> datetime:
    return datetime.fromtimestamp(at)


def _week(canvas: Canvas, report: Report, colours: Colours) -> None:
    axes = canvas.subplots()
    days = list(reversed(_averages(report)))
    axes.pcolormesh(range(25), range(8), days, cmap="cividis", edgecolors="none")
    axes.set_yticks([number + 0.5 for number in range(7)], list(reversed(WEEKDAYS)))
    axes.set_xticks([hour + 0.5 for hour in range(0, 24, 3)], [f"{hour:02}" for hour in range(0, 24, 3)])
    axes.set_xlabel("hour of the day; the lighter, the more")
    axes.grid(visible=False)


def _averages(report: Report) -> list[list[float]]:
    """The mean number accepted in each hour of the week over the period."""
    times = [[0] * 24 for _ in range(7)]
    for hour in range(report.period.hours):
        when = datetime.fromtimestamp(report.period.start + hour * HOUR)
        times[when.weekday()][when.hour] += 1
    return [
        [total / (count or 1) for total, count in zip(*of, strict=True)]
        for of in zip(report.by_week, times, strict=True)
    ]


def _delays(canvas: Canvas, report: Report, colours: Colours) -> None:
    axes = canvas.subplots()
    steps = range(max(report.delay_steps) + 1)
    axes.bar(
        list(steps), [report.delay_steps.get(step, 0) for step in steps], width=0.9, align="edge", color=colours.first
    )
    places = [place for place in map(step_of_delay, TICKS) if place <= len(steps) + 1]
    axes.set_xticks(places, list(TICK_WORDS[: len(places)]))
    axes.set_ylabel("recipients (log)")
    axes.set_yscale("log")
    axes.set_ylim(bottom=0.8)


def _bars(canvas: Canvas, rows: Sequence[tuple[str, Sequence[int]]], kinds: Sequence[tuple[str, str]]) -> None:
    """Bars to the right, the largest on top, of several kinds one after the other."""
    axes = canvas.subplots()
    names = [name for name, _ in rows][::-1]
    left = [0] * len(rows)
    for number, (kind, colour) in enumerate(kinds):
        widths = [counts[number] for _, counts in rows][::-1]
        axes.barh(names, widths, left=left, color=colour, label=kind)
        left = [a + b for a, b in zip(left, widths, strict=True)]
    axes.grid(axis="y", visible=False)
    axes.grid(axis="x", visible=True)
    axes.set_xlabel("recipients")
    if len(kinds) > 1:
        axes.legend(loc="lower right", fontsize=9)


def _reasons(canvas: Canvas, report: Report, colours: Colours) -> None:
    rows = [(reason.reason, (reason.delayed, reason.failed)) for reason in report.reasons[:MOST_BARS]]
    _bars(canvas, rows, (("delayed", colours.second), ("failed", colours.third)))


def _domains(canvas: Canvas, report: Report, colours: Colours) -> None:
    rows = [(row.name, (row.counts["relayed"],)) for row in report.domains[:MOST_BARS]]
    _bars(canvas, rows, (("relayed", colours.first),))


# --- the same in words ----------------------------------------------------------------------------------------------


def _traffic_words(report: Report) -> str:
    times, relayed, step = _summed(report, "relayed")
    most = max(range(len(relayed)), key=relayed.__getitem__)
    when = f"{step} hours from {times[most]:%A, %d %B, %H:00}" if step > 1 else f"hour from {times[most]:%A %H:00}"
    count = len(report.outages)
    down = f" A next hop was down {'once' if count == 1 else f'{count} times'}." if count else ""
    text = f"{sum(relayed):,} recipients relayed, most of them in the {when} ({relayed[most]:,})."
    return text + down + _wait_words(report)


def _wait_words(report: Report) -> str:
    """The hour in which mail that was relayed had waited longest."""
    waits = [(quantile(steps, 0.99), hour) for hour, steps in enumerate(report.delay_steps_by_hour) if steps]
    if not waits:
        return ""
    wait, hour = max(waits)
    when = datetime.fromtimestamp(report.period.start + hour * HOUR)
    return f" The longest waits ended in the hour from {when:%A, %d %B, %H:00}: one of 100 took over {span_text(wait)}."


def _week_words(report: Report) -> str:
    cells = [(count, day, hour) for day, hours in enumerate(_averages(report)) for hour, count in enumerate(hours)]
    count, day, hour = max(cells)
    return f"Most mail comes in on {WEEKDAYS[day]} from {hour:02}:00 to {hour + 1:02}:00: {count:,.0f} recipients."


def _delay_words(report: Report) -> str:
    of_all = report.delays[0]
    return (
        f"Half of {of_all.recipients:,} recipients within {of_all.median:.1f} s, 99 of 100 within {of_all.p99:,.0f} s."
    )


def _reason_words(report: Report) -> str:
    worst = report.reasons[0]
    return f"The most frequent reason is {worst.reason}: {worst.delayed:,} delayed, {worst.failed:,} failed."


def _domain_words(report: Report) -> str:
    row = report.domains[0]
    return f"Most goes to {row.name}: {row.counts['relayed']:,} recipients."
