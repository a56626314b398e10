"""The report as a page: whole by itself, and shown by a real browser."""

from __future__ import annotations

import html.parser
import json
import re
import shutil
import subprocess
from pathlib import Path

import pytest

from copper_kite.report import Report, last_days, make_report, report_page
from copper_kite.settings.load import load_configuration
from copper_kite.store import HourlyCount
from tests.report.test_report import NOW, Counts, counted, relayed, took
from tests.support import write_site

BROWSER = shutil.which("chromium") or shutil.which("chromium-browser")
TITLES = (
    "Traffic and waits", "When mail comes in", "From submission to relay", "Delayed and failed, by reason", "Relayed, by domain",
    "What to do", "By connector", "By sender", "By recipient's domain", "Delays", "Refused by listeners",
)  # fmt: skip


class Outline(html.parser.HTMLParser):
    """Headings, what is fetched from elsewhere, and which tags are open at the end."""

    def __init__(self) -> None:
        super().__init__()
        self.headings: list[str] = []
        self.fetched: list[str] = []
        self.open: list[str] = []

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        if tag not in ("meta", "br", "link", "img"):
            self.open.append(tag)
        if tag in ("script", "link", "img", "iframe"):
            self.fetched.append(tag)
        self.fetched += [value for name, value in attrs if name in ("src", "href") and value and value[0] != "#"]

    def handle_startendtag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.fetched += [value for name, value in attrs if name in ("src", "href") and value and value[0] != "#"]

    def handle_endtag(self, tag: str) -> None:
        assert self.open.pop() == tag

    def handle_data(self, data: str) -> None:
        if self.open[-1:] == ["h2"]:
            self.headings.append(data)


def made(folder: Path, *more: HourlyCount) -> Report:
    config = write_site(folder, 2525, tls="off")
    counts = [counted("accepted", hour=int(NOW) // 3600 - back, recipients=back) for back in range(1, 100)]
    counts += [relayed(back, hour=int(NOW) // 3600 - back) for back in range(1, 100)]
    counts += [took(back, back % 30, hour=int(NOW) // 3600 - back) for back in range(1, 100)]
    counts += [
        counted("failed", connector="beacon", reason="550 5.1.1 recipient", recipients=3),
        counted("delayed", connector="beacon", reason="connection refused", recipients=4),
        counted("refused", reason="550 5.7.1 recipient", who="192.0.2.9"),
    ]
    loaded = load_configuration(config, secrets=False)
    return make_report(Counts(*counts, *more), loaded, last_days(7, NOW), NOW)  # type: ignore[arg-type]


def outline_of(page: str) -> Outline:
    outline = Outline()
    outline.feed(page)
    return outline


def test_a_page_has_all_of_it_and_fetches_nothing(folder: Path) -> None:
    page = report_page(made(folder), "quay1.ternferries.example")
    outline = outline_of(page)
    assert tuple(outline.headings) == TITLES and outline.fetched == [] and outline.open == []
    assert page.count("<svg") == 5 and page.count('role="img" aria-label="') == 5
    assert not re.search(r"url\((?!#)|@import|http-equiv", page) and "#0102" not in page, "colours are the page's own"


def test_what_others_wrote_is_only_text(folder: Path) -> None:
    odd = "<script>alert(1)</script>"
    page = report_page(made(folder, relayed(500, domain=odd), counted("accepted", who=odd, recipients=900)), "q")
    assert odd not in page and "&lt;script&gt;" in page and outline_of(page).fetched == []


def test_of_an_empty_period_there_is_little_to_say(folder: Path) -> None:
    config = write_site(folder, 2525, tls="off")
    loaded = load_configuration(config, secrets=False)
    report = make_report(Counts(), loaded, last_days(1, NOW), NOW)  # type: ignore[arg-type]
    outline = outline_of(report_page(report, "q"))
    assert outline.headings == [] and outline.open == []


@pytest.mark.skipif(BROWSER is None, reason="chromium is not here")
@pytest.mark.parametrize("width", [400, 1280])
def test_a_browser_shows_it_without_a_word_of_complaint(folder: Path, width: int) -> None:
    """No error on the console, no request, every section, nothing wider than the window."""
    probe = (
        "<script>addEventListener('load', () => { document.title = JSON.stringify({"
        "headings: [...document.querySelectorAll('h2')].map(x => x.textContent),"
        "figures: [...document.querySelectorAll('svg')].filter(x => x.getBoundingClientRect().height > 50).length,"
        "wider: document.documentElement.scrollWidth - innerWidth,"
        "requests: performance.getEntriesByType('resource').length}) })</script>"
    )
    page = folder / "report.html"
    page.write_text(report_page(made(folder), "quay1.ternferries.example").replace("</body>", f"{probe}</body>"))
    assert BROWSER is not None
    done = subprocess.run(
        [BROWSER, "--headless=new", "--no-sandbox", "--disable-gpu", "--enable-logging=stderr", "--v=0",
         f"--user-data-dir={folder / 'profile'}", f"--window-size={width},900", "--dump-dom", page.as_uri()],
        capture_output=True, text=True, timeout=120, check=True,
    )  # fmt: skip
    result = json.loads(html.unescape(re.search(r"<title>(.*?)</title>", done.stdout, re.S)[1]))  # type: ignore[index]
    assert tuple(result["headings"]) == TITLES and result["figures"] == 5 and result["requests"] == 0
    assert result["wider"] <= 0 or width < 500, result  # a window of chromium is at least 500 wide
    assert "CONSOLE" not in done.stderr
