"""Reports on a period of mail in numbers and findings: from the hourly counts, the journal and the queue.

`make_report` gives a `Report` for a `Period`, narrowed down by a `Filter`.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from copper_kite.lazy import lazy_exports

if TYPE_CHECKING:
    from copper_kite.report.figures import Colours, Figure, date_axis
    from copper_kite.report.mail import report_message
    from copper_kite.report.make import make_report
    from copper_kite.report.model import AllowanceUse, Delays, Outage, Reason, Report, Row, Unusual
    from copper_kite.report.page import page_style, report_page
    from copper_kite.report.period import Period, last_days, one_day, since_until
    from copper_kite.report.schedule import last_due, period_before
    from copper_kite.report.tls_results import (
        DomainTls,
        TlsFailure,
        TlsReport,
        collect_tls,
        report_addresses,
        send_tls_report,
        tls_message,
        tls_report,
    )
    from copper_kite.report.verify import Difference, compare_counts

__getattr__, __all__ = lazy_exports(
    __name__,
    {
        "figures": "Colours Figure date_axis",
        "mail": "report_message",
        "make": "make_report",
        "model": "AllowanceUse Delays Outage Reason Report Row Unusual",
        "page": "page_style report_page",
        "period": "Period last_days one_day since_until",
        "schedule": "period_before last_due",
        "tls_results": "DomainTls TlsFailure TlsReport collect_tls report_addresses send_tls_report tls_message"
        " tls_report",
        "verify": "Difference compare_counts",
    },
)
