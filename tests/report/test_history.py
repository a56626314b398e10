"""The made-up history: what is written is what a server would have written, and the report finds what lies in it."""

from __future__ import annotations

from pathlib import Path

import pytest

from copper_kite.demo import history, make_history
from copper_kite.report import compare_counts, make_report, since_until
from copper_kite.settings.load import load_configuration
from copper_kite.store import open_store
from tests.configuration import store_of

NOW = 1_780_000_000.0
DAY = 86400.0


@pytest.mark.data_folder
def test_a_report_finds_what_lies_in_it(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(history, "DAYS", 3)
    monkeypatch.setattr(history, "OUTAGES", (("beacon", 1, 9.0, 12.0),))
    monkeypatch.setattr(history, "HIJACKED", (2, 13.0, 15.0, 300))
    messages = make_history(folder, NOW)
    loaded = load_configuration(folder / "kite.toml")
    with open_store(store_of(folder / "queue")).reader() as reader:
        report = make_report(reader, loaded, since_until(NOW - 3 * DAY, NOW), NOW)
        recipients, differences = compare_counts(reader, 0, 2**40)
        assert reader.summary().messages == 0 and reader.last_id() > 0
    assert report.totals["accepted"] == messages > 1000 and differences == [] and recipients > 2 * messages
    assert report.totals["relayed"] + report.totals["failed"] == messages
    (outage,) = report.outages
    assert outage.until is not None and outage.until - outage.since == 3 * 3600.0 and outage.connector == "beacon"
    assert {row.name for row in report.senders} == {"ticketing", "tidewatch", "lists", "rota", "www-data"}
    reasons = {reason.reason for reason in report.reasons}
    assert {"554 5.7.1 accept", "550 5.1.1 recipient"} <= reasons
    assert report.delays[0].largest > 2 * 3600, "what waited for the host that was down"
