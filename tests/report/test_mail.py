"""A report as mail: built, due, sent once."""

from __future__ import annotations

import base64
import email
import email.policy
from datetime import datetime
from email.message import EmailMessage
from pathlib import Path
from typing import cast

import pytest

from copper_kite.monitoring.due_report import RETRY_SECONDS, DueReport
from copper_kite.monitoring.server import _due_report
from copper_kite.net.authority import CertificateFiles
from copper_kite.report import Report, last_days, last_due, make_report, period_before, report_message
from copper_kite.settings.alarm import ReportSettings
from copper_kite.settings.load import load_configuration
from copper_kite.store import JournalEntry, WriteEntry, open_store
from copper_kite.words import Event
from tests.configuration import store_of
from tests.looping import happens
from tests.report.test_report import NOW, Counts, counted, relayed, took
from tests.support import kite, running, site, write_site

EVIL = "<script>x.example"


@pytest.fixture
def made(folder: Path) -> Report:
    counts = Counts(
        relayed(40, domain=EVIL), took(40, 5), counted("accepted", recipients=44),
        counted("failed", recipients=3, connector="beacon", reason="550 5.1.1 recipient"),
    )  # fmt: skip
    loaded = load_configuration(write_site(folder, 2525, tls="off"))
    return make_report(counts, loaded, last_days(1, NOW), NOW)  # type: ignore[arg-type]


def parsed(octets: bytes) -> EmailMessage:
    return cast("EmailMessage", email.message_from_bytes(octets, policy=email.policy.default))


def test_text_and_html_with_the_figures_as_parts(made: Report) -> None:
    octets = report_message(made, "quay1.example", sender="postmaster@x.example", to="duty@crew.example", id="7")
    assert (
        octets.isascii() and max(map(len, octets.split(b"\r\n"))) <= 998 and b"\n" not in octets.replace(b"\r\n", b"")
    )
    message = parsed(octets)
    assert message.get_content_type() == "multipart/alternative"
    assert (
        message["Auto-Submitted"] == "auto-generated"
        and message["Subject"] == "Mail of quay1.example: the last 24 hours"
    )
    text, html = message.get_body(("plain",)), message.get_body(("html",))
    assert text is not None and html is not None
    assert "relayed            40   (0 before)" in text.get_content()
    assert "There is no mailbox of the recipient at its host." in text.get_content() and EVIL in text.get_content()
    assert "&lt;script&gt;x.example" in html.get_content() and "<script" not in html.get_content()
    images = [part for part in message.walk() if part.get_content_type() == "image/png"]
    assert len(images) == 5
    for part in images:
        assert f"cid:{str(part['Content-ID'])[1:-1]}" in html.get_content()
        assert cast("EmailMessage", part).get_content().startswith(b"\x89PNG")


def instant(text: str) -> float:
    return datetime.fromisoformat(text).timestamp()


@pytest.mark.parametrize(
    ("every", "now", "due", "since", "hours"),
    [
        ("day", "2026-05-07 07:00", "2026-05-07 07:00", "2026-05-06 00:00", 24),
        ("day", "2026-05-07 06:59", "2026-05-06 07:00", "2026-05-05 00:00", 24),
        ("week", "2026-05-07 12:00", "2026-05-04 07:00", "2026-04-27 00:00", 168),
        ("week", "2026-05-04 06:00", "2026-04-27 07:00", "2026-04-20 00:00", 168),
        ("month", "2026-03-01 07:30", "2026-03-01 07:00", "2026-02-01 00:00", 28 * 24),
        ("month", "2026-03-01 06:30", "2026-02-01 07:00", "2026-01-01 00:00", 31 * 24),
    ],
)
def test_when_it_is_due_and_on_what(every: str, now: str, due: str, since: str, hours: int) -> None:
    settings = ReportSettings.model_validate({"to": "a@b.example", "every": every})
    assert last_due(settings, instant(now)) == instant(due)
    period = period_before(settings, instant(due))
    assert (period.start, period.hours) == (instant(since), hours)


def test_it_is_made_once_and_again_only_if_the_journal_knows_nothing(folder: Path) -> None:
    extra = '[report]\nto = "duty@crew.example"\nevery = "day"\n'
    loaded = load_configuration(write_site(folder, 2525, tls="off", extra=extra))
    store = open_store(loaded.store)
    store.upgrade()
    now = instant("2026-05-07 08:00")
    report = DueReport(loaded)
    made = report.make_if_due(now)
    assert made is not None and made["to"] == "duty@crew.example" and made["period"] == "Wednesday, 06 May 2026"
    assert b"Wednesday, 06 May 2026" in base64.b64decode(made["content"])
    assert report.make_if_due(now + 10) is None
    assert report.make_if_due(now + RETRY_SECONDS) is not None  # the server could not keep it
    store.write([[WriteEntry(JournalEntry(at=now + 20, event=Event.REPORTED, facts={}))]])
    assert report.make_if_due(now + 2 * RETRY_SECONDS) is None
    assert DueReport(loaded).make_if_due(now + 3600) is None  # a restart
    assert report.make_if_due(now + 86400) is not None


async def test_a_report_that_cannot_be_made_is_logged_and_alarms_go_on(
    folder: Path, monkeypatch: pytest.MonkeyPatch, authority: CertificateFiles
) -> None:
    def fails(*args: object, **more: object) -> bytes:
        raise ImportError("no module named jinja2")

    log = '[log]\nto = "file:kite.log"\n'
    extra = '[report]\nto = "duty@crew.example"\nevery = "day"\n'
    async with site(folder, authority, extra=log) as here:
        monkeypatch.setattr("copper_kite.monitoring.due_report.report_message", fails)
        made = _due_report(DueReport(load_configuration(write_site(folder, 2525, tls="off", extra=extra))))
        assert made == {"fault": "ImportError: no module named jinja2"}
        here.service.monitoring._on_message({"report": made})
        assert "it cannot be made: ImportError" in (folder / "kite.log").read_text()


async def test_the_server_sends_what_the_process_made(folder: Path, authority: CertificateFiles) -> None:
    """As its own mail, from nobody: whatever becomes of it, nobody is answered."""
    async with site(folder, authority, extra='[report]\nto = "duty@crew.example"\nevery = "day"\n') as here:
        (caught,) = await here.until_caught(1)
        assert caught.recipients == ("duty@crew.example",) and caught.reverse_path == ""
        assert caught.file is not None
        assert parsed(caught.file.read_bytes()).get_content_type() == "multipart/alternative"
        await happens(lambda: here.reader().noted(Event.REPORTED, 0.0))


async def test_the_command_mails_a_report(folder: Path, authority: CertificateFiles) -> None:
    config = write_site(folder, 1, tls="off")
    with running(config):
        done = kite("report", "--mail", "duty@crew.example", config=config)
        assert done.returncode == 0 and b"sent to duty@crew.example: 250" in done.stderr and not done.stdout
        with open_store(store_of(folder / "queue")).reader() as reader:
            assert [row.recipient.address for row in reader.queue()] == ["duty@crew.example"]
        assert kite("report", "--mail", "duty", config=config).returncode == 2
    stopped = kite("report", "--mail", "duty@crew.example", config=config)
    assert stopped.returncode == 1 and b"is `kite serve` running?" in stopped.stderr
