"""Rehearsals as pictures: the queue, the age of the oldest and what is relayed, with bands and the troubles shaded."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from importlib import resources
from typing import TYPE_CHECKING, Any, NamedTuple

from copper_kite.rehearsal.conclusion import Conclusion, trouble_text
from copper_kite.rehearsal.figures import Bands, Series
from copper_kite.rehearsal.world import Trouble
from copper_kite.report import Colours, Figure, date_axis, page_style

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure as Canvas

__all__ = ["Drawn", "picture", "picture_page"]

HOUR = 3600.0
_CURVES = (
    ("waiting", "recipients waiting", 1.0),
    ("oldest", "oldest, hours", HOUR),
    ("relayed", "relayed an hour", 1 / HOUR),
)


class Drawn(NamedTuple):
    """The subject of a picture: rehearsals with their names, and the troubles of the first."""

    rehearsals: Sequence[tuple[str, Bands]]
    troubles: Sequence[Trouble]


def picture(drawn: Drawn) -> Figure:
    """The figure. Drawing it raises ImportError where Matplotlib is missing."""
    bands = drawn.rehearsals[0][1]
    largest = bands.figures["largest_queue"]
    assert largest is not None
    words = f"At most {largest.median:,.0f} recipients wait in the median of {bands.runs} runs."
    told = [trouble_text(trouble) for trouble in drawn.troubles]
    words += "".join(f" {text[:1].upper()}{text[1:]}." for text in told)
    return Figure("The queue in this rehearsal", words, drawn, _draw, (9.0, 6.0))


def _draw(canvas: Canvas, drawn: Drawn, colours: Colours) -> None:
    rows = canvas.subplots(3, 1, sharex=True, height_ratios=(2, 1.3, 1.3))
    shown = max(bands.worth_showing for _, bands in drawn.rehearsals)
    since, step = drawn.rehearsals[0][1].since, drawn.rehearsals[0][1].step
    for axes, (key, label, unit) in zip(rows, _CURVES, strict=True):
        for (name, bands), colour in zip(
            drawn.rehearsals, (colours.first, colours.second, colours.third), strict=False
        ):
            _curve(axes, bands.series[key], unit, (since, step, shown), colour, name)
        for number, trouble in enumerate(drawn.troubles):
            begin, end = max(trouble.since, since), min(trouble.until, since + step * shown)
            if begin < end:
                label_of = trouble_text(trouble) if key == "waiting" and number < 3 else None
                axes.axvspan(_local(begin), _local(end), color=colours.shade, alpha=0.4, zorder=0, label=label_of)
        axes.set_ylabel(label)
        axes.set_ylim(bottom=0)
    rows[0].legend(loc="lower left", bbox_to_anchor=(0.0, 1.0), ncols=2, fontsize=9)
    rows[-1].set_xlim(_local(since), _local(since + step * shown))
    date_axis(rows[-1])


def _curve(axes: Axes, series: Series, unit: float, span: tuple[float, float, int], colour: str, name: str) -> None:
    since, step, shown = span
    times: list[Any] = [_local(since + step * (place + 1)) for place in range(min(shown, len(series.median)))]
    median, low, high = (
        [value / unit for value in values[: len(times)]] for values in (series.median, series.low, series.high)
    )
    axes.fill_between(times, low, high, color=colour, alpha=0.25, linewidth=0)
    axes.plot(times, median, color=colour, linewidth=1.4, label=name)


def _local(at: float) -> datetime:
    return datetime.fromtimestamp(at)


def picture_page(drawn: Drawn, conclusion: Conclusion, title: str, tables: Sequence[Any]) -> str:
    """One HTML page: the verdict, the picture and the tables (title, columns, rows). Raises ImportError."""
    from jinja2 import Environment, StrictUndefined

    source = (resources.files("copper_kite.rehearsal") / "rehearsal.html").read_text("utf-8")
    environment = Environment(autoescape=True, undefined=StrictUndefined, trim_blocks=True)
    figure = picture(drawn)
    return environment.from_string(source).render(
        title=title, style=page_style(), conclusion=conclusion, svg=figure.svg, words=figure.words, tables=tables,
        heading=figure.title, runs=drawn.rehearsals[0][1].runs,
    )  # fmt: skip
