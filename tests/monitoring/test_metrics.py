"""Metrics: from the hourly counts and the queue to numbers that the library's own parsers read."""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import Any

import pytest
from prometheus_client.core import Metric
from prometheus_client.openmetrics import parser as openmetrics
from prometheus_client.parser import text_string_to_metric_families

from copper_kite.monitoring import FAMILIES, Disk, Totals, find_problems, render, take_readings
from copper_kite.monitoring.collector import DELAY
from copper_kite.monitoring.totals import MOST_REASONS
from copper_kite.settings.load import load_configuration
from copper_kite.store import CountFilter, HourlyCount, Note, open_store
from tests.report.test_report import HOUR, NOW, Counts, counted, relayed, took
from tests.support import kite, write_site

EXAMPLES = Path(__file__).parents[2] / "docs" / "examples"
Parse = Callable[[str], Iterable[Metric]]


class Asked(Counts):
    """Notes which hours were asked for."""

    def __init__(self, *counts: HourlyCount) -> None:
        super().__init__(*counts)
        self.hours: list[tuple[int, int]] = []

    def summed_counts(
        self, since: int, until: int, by: Any, only: CountFilter | None = None, outcome: str = ""
    ) -> list[tuple[Any, ...]]:
        self.hours.append((since, until))
        return super().summed_counts(since, until, by, only, outcome)


def test_an_hour_is_summed_once_and_the_last_day_again() -> None:
    reader, totals = Asked(relayed(3, HOUR - 100), relayed(2, HOUR - 1)), Totals()
    assert totals.now(reader, NOW).recipients["relayed", "beacon"] == 5
    reader.counts = (relayed(3, HOUR - 100), relayed(4, HOUR - 1), relayed(1, HOUR + 30))
    sums = totals.now(reader, NOW + 40 * 3600)
    assert sums.recipients["relayed", "beacon"] == 8 and sums.octets["beacon"] == 800
    assert min(since for since, _ in reader.hours[2:]) == HOUR - 24
    assert totals.now(reader, NOW - 40 * 3600).recipients["relayed", "beacon"] == 8  # a clock that was set back


def test_what_was_summed_stays_when_its_hours_are_forgotten() -> None:
    reader, totals = Counts(relayed(3, HOUR - 100)), Totals()
    totals.now(reader, NOW)
    reader.counts = ()
    assert totals.now(reader, NOW).recipients["relayed", "beacon"] == 3


def test_reasons_are_bounded_and_those_that_have_a_count_keep_it() -> None:
    first = counted("failed", HOUR - 50, 2, connector="beacon", reason="550 5.1.1 recipient")
    many = [counted("failed", connector="beacon", reason=f"5{n:02} accept") for n in range(MOST_REASONS + 30)]
    totals = Totals()
    totals.now(Counts(first), NOW)
    sums = totals.now(Counts(first, *many), NOW)
    assert len(sums.reasons) == MOST_REASONS + 1
    assert sums.reasons["failed", "other"] == 31
    assert sums.reasons["failed", "550 5.1.1 recipient"] == 2
    assert sum(sums.reasons.values()) == sums.recipients["failed", "beacon"]


@pytest.mark.parametrize(
    ("accept", "parse"),
    [
        ("", text_string_to_metric_families),
        ("application/openmetrics-text;version=1.0.0", openmetrics.text_string_to_metric_families),
    ],
)
def test_both_forms_can_be_parsed_and_have_every_metric(folder: Path, accept: str, parse: Parse) -> None:
    loaded = load_configuration(write_site(folder, 2525, tls="off"))
    open_store(loaded.store).upgrade()
    long_ago, totals = HOUR - 100, Totals()
    refused = counted("refused", long_ago, reason="550 recipient")
    totals.now(Counts(relayed(5, long_ago), took(4, 8, long_ago), took(1, 9, long_ago), refused), NOW)
    text, kind = render(take_readings(loaded, totals, NOW), accept)
    assert ("openmetrics" in kind) == bool(accept)
    result = {metric.name: metric for metric in parse(text.decode())}
    assert {family.name.removesuffix("_total").removesuffix("_info") for family in FAMILIES} | {DELAY} == {
        name.removesuffix("_info") for name in result
    }
    values = {(sample.name, *sample.labels.values()): sample.value for sample in result["kite_recipients"].samples}
    assert values["kite_recipients_total", "beacon", "relayed"] == 5
    assert values["kite_recipients_total", "", "refused"] == 1
    assert values["kite_recipients_total", "beacon", "failed"] == 0  # it is there before the first one
    delays = {sample.labels.get("le", sample.name): sample.value for sample in result[DELAY].samples}
    assert (delays["3.0"], delays["7.0"], delays["+Inf"], delays["kite_delay_seconds_count"]) == (0, 5, 5, 5)
    assert delays["kite_delay_seconds_sum"] == pytest.approx(5 * 3.5, rel=0.1)


def test_health_has_a_reason_for_each_thing_that_is_wrong() -> None:
    disk = Disk(free=100, all=1000, keep_free=10)
    assert find_problems(disk, Note("", 1.0), 0, running=True) == []
    wrong = find_problems(disk._replace(keep_free=200), Note("", 1.0, 2.0, ("line 3: no",)), 7, running=False)
    assert [problem.reason for problem in wrong] == ["stopped", "disk", "configuration", "faults"]
    assert "line 3: no" in wrong[2].text and "100 octets" in wrong[1].text
    assert [problem.reason for problem in find_problems(None, None, 0, running=True)] == ["folder"]


def test_the_command_prints_them_without_a_server(folder: Path) -> None:
    config = write_site(folder, 2525, tls="off")
    open_store(load_configuration(config).store).upgrade()
    for form, parse in (
        ("prometheus", text_string_to_metric_families),
        ("openmetrics", openmetrics.text_string_to_metric_families),
    ):
        done = kite("metrics", "--form", form, config=config)
        result = {metric.name: metric for metric in parse(done.stdout.decode())}
        assert result["kite_healthy"].samples[0].value == 0 and done.returncode == 0


def test_examples_name_metrics_that_there_are() -> None:
    known = {family.name for family in FAMILIES} | {"kite_build_info", f"{DELAY}_bucket"}
    dashboard = (EXAMPLES / "dashboard.json").read_text()
    alerts = (EXAMPLES / "alerts.yml").read_text()
    assert len(json.loads(dashboard)["panels"]) == 8
    used = set(re.findall(r"\bkite_\w+", dashboard + alerts))
    assert used <= known and len(used) > 10
    assert len(re.findall(r"- alert: ", alerts)) == len(re.findall(r"\n {8}expr: ", alerts)) == 8
