"""A report as one HTML page: nothing is fetched, no script is needed, the figures stand in it as SVG."""

from __future__ import annotations

import time
from collections.abc import Sequence
from importlib import resources

from copper_kite.clock import span_text
from copper_kite.report.figures import figures
from copper_kite.report.model import Report
from copper_kite.words import OUTCOMES

__all__ = ["page_style", "render", "report_page"]

MOST_ROWS = 15  # of a table


def report_page(report: Report, server: str) -> str:
    """The page. What senders, domains and replies hold is escaped. Raises ImportError without the extra `report`."""
    drawn = [(figure.title, figure.words, figure.svg) for figure in figures(report)]
    return render("page.html", report, server, drawn)


def page_style() -> str:
    """The style sheet of pages with figures, light and dark, on a screen and printed."""
    return (resources.files("copper_kite.report") / "page.css").read_text("utf-8")


def render(template: str, report: Report, server: str, drawn: Sequence[tuple[str, str, str]] = ()) -> str:
    """A report by one of our templates; `drawn` has the title of each figure, its words, and the HTML that shows it."""
    from jinja2 import Environment, StrictUndefined

    html = template.endswith(".html")
    environment = Environment(autoescape=html, undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=not html)
    environment.filters |= {
        "moment": lambda at: time.strftime("%a %d %b %Y %H:%M", time.localtime(at)),
        "thousands": lambda number: f"{number:,}",
        "span": lambda seconds: f"{seconds:.1f} s" if seconds < 10 else span_text(seconds),
        "capitalize_first": lambda text: text[:1].upper() + text[1:],
    }
    source = (resources.files("copper_kite.report") / template).read_text("utf-8")
    tables = (
        ("By connector", report.connectors),
        ("By sender", report.senders),
        ("By recipient's domain", report.domains),
    )
    return environment.from_string(source).render(
        report=report, server=server, outcomes=OUTCOMES, figures=drawn, tables=tables, most=MOST_ROWS,
        style=page_style(),
    )  # fmt: skip
