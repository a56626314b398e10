"""The reports on TLS that other domains ask for (RFC 8460): each once a day, one after the other."""

from __future__ import annotations

import asyncio
import base64
import hashlib
from typing import Any

from copper_kite.net import Lookups
from copper_kite.report import (
    DomainTls,
    TlsReport,
    collect_tls,
    report_addresses,
    send_tls_report,
    tls_message,
    tls_report,
)
from copper_kite.routing import dns_of
from copper_kite.settings import Loaded
from copper_kite.store import open_store
from copper_kite.words import Event

__all__ = ["DueTlsReports"]

DAY = 86400.0
SPREAD = 4 * 3600.0  # seconds after midnight (UTC) over which servers send theirs (RFC 8460 4.5)
LOOKUP_SECONDS = 10.0


class DueTlsReports:
    """Makes the reports on the day before, one a turn; the journal says which were sent."""

    def __init__(self, loaded: Loaded) -> None:
        self._loaded = loaded
        self._day = 0.0  # the end of the day that `_left` is about
        self._left: list[tuple[str, DomainTls]] = []
        hashed = hashlib.sha256(loaded.server_name.encode()).digest()
        self._offset = int.from_bytes(hashed[:4], "big") / 2**32 * SPREAD

    def make_if_due(self, now: float) -> dict[str, Any] | None:
        """The report to send, or sent: the `domain`, the `period` in words, and for each address the message in base64.

        None when nothing is. `now` in seconds since 1970. Raises StoreError.
        """
        if not self._loaded.settings.tls_reports.send:
            return None
        end = now // DAY * DAY
        if now < end + self._offset:
            return None
        if end != self._day:
            self._left, self._day = self._collect(end), end
        while self._left:
            domain, results = self._left.pop()
            addresses, urls = report_addresses(self._records(domain))
            if addresses or urls:
                return self._made(self._report(domain, results, end), addresses, urls, now)
        return None

    def _collect(self, end: float) -> list[tuple[str, DomainTls]]:
        store = open_store(self._loaded.store)
        with store.reader() as reader:
            sent = {entry.facts["domain"] for entry in reader.noted(Event.TLS_REPORTED, end)}
        connectors = {entry.name for entry in self._loaded.settings.connector if entry.mx}
        history = store.history()
        try:
            domains = collect_tls(history.between(end - DAY, end), connectors)
        finally:
            history.close()
        return [(domain, results) for domain, results in domains.items() if domain not in sent]

    def _records(self, domain: str) -> list[str]:
        async def ask() -> list[str]:
            answer = await Lookups(dns_of(self._loaded), LOOKUP_SECONDS).ask(f"_smtp._tls.{domain}", "TXT")
            return answer.strings

        return asyncio.run(ask())

    def _report(self, domain: str, results: DomainTls, end: float) -> TlsReport:
        settings, loaded = self._loaded.settings.tls_reports, self._loaded
        return tls_report(
            domain,
            results,
            end - DAY,
            end,
            organization=settings.organization or loaded.settings.identity.domain or loaded.server_name,
            contact=settings.contact or loaded.postmaster,
            server=loaded.server_name,
        )

    def _made(self, report: TlsReport, addresses: list[str], urls: list[str], now: float) -> dict[str, Any]:
        loaded = self._loaded
        messages = {
            address: base64.b64encode(
                tls_message(report, sender=loaded.postmaster, to=address, server=loaded.server_name, now=now)
            ).decode()
            for address in addresses
        }
        said = {url: send_tls_report(report, url) for url in urls}
        return {"domain": report.domain, "period": report.id.partition(".")[0], "messages": messages, "posted": said}
