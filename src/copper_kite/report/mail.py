"""A report as a message: text, and the same as HTML with its figures as parts (RFC 2046 5.1.4, RFC 2387, RFC 2392)."""

from __future__ import annotations

from email.message import EmailMessage
from email.policy import SMTP
from html import escape

from copper_kite.mail import format_date
from copper_kite.report.figures import figures
from copper_kite.report.model import Report
from copper_kite.report.page import render

__all__ = ["report_message"]


def report_message(report: Report, server: str, *, sender: str, to: str, id: str) -> bytes:
    """The message, with CR LFs, of ASCII alone; `id` goes into its Message-ID.

    Raises ImportError without the extra `report`.
    """
    drawn = figures(report)
    places = [f"figure{number}.{id}@{server}" for number in range(1, len(drawn) + 1)]
    shown = [
        (figure.title, figure.words,
         f'<img src="cid:{place}" alt="{escape(figure.words)}" style="max-width: 100%; height: auto">')
        for figure, place in zip(drawn, places, strict=True)
    ]  # fmt: skip
    message = EmailMessage(policy=SMTP.clone(cte_type="7bit"))
    message["From"] = f"Mail at {server} <{sender}>"
    message["To"] = f"<{to}>"
    message["Subject"] = f"Mail of {server}: {report.period.title}"
    message["Date"] = format_date(report.now)
    message["Message-ID"] = f"<{id}.report@{server}>"
    message["Auto-Submitted"] = "auto-generated"  # RFC 3834 5: nobody is to answer it by a program
    message.set_content(render("page.txt", report, server, shown))
    message.add_alternative(render("page.html", report, server, shown), subtype="html")
    page = message.get_payload(1)
    assert isinstance(page, EmailMessage)
    for number, (figure, place) in enumerate(zip(drawn, places, strict=True), 1):
        page.add_related(
            figure.png, maintype="image", subtype="png", cid=f"<{place}>", disposition="inline",
            filename=f"figure{number}.png",
        )  # fmt: skip
    return message.as_bytes()
