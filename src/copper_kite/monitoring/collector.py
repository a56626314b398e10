"""The metrics as the library takes them, rendered in its two forms."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator

from prometheus_client.core import (
    CounterMetricFamily,
    GaugeMetricFamily,
    HistogramMetricFamily,
    InfoMetricFamily,
    Metric,
)
from prometheus_client.exposition import choose_encoder

from copper_kite.monitoring.families import FAMILIES, Family
from copper_kite.monitoring.readings import Readings
from copper_kite.store import DELAY_STEPS, delay_of_step

__all__ = ["DELAY", "DELAY_HELP", "Collector", "render"]

DELAY = "kite_delay_seconds"
DELAY_HELP = "From submission to relay, by recipient. The sum is as exact as the steps are: within 10 %."
DOUBLINGS = 20  # the last bound is 2 ** 20 - 1 seconds, 12 days: longer than a message lives


class Collector:
    """Hands one look at the server to the library."""

    def __init__(self, readings: Readings) -> None:
        self._readings = readings

    def collect(self) -> Iterator[Metric]:
        """Every metric, with its values."""
        for family in FAMILIES:
            yield _metric(family, self._readings)
        delay = HistogramMetricFamily(DELAY, DELAY_HELP, labels=("connector",))
        for name, steps in sorted(self._readings.sums.delays.items()):
            delay.add_metric((name,), _buckets(steps), _sum(steps))
        yield delay


def render(readings: Readings, accept: str = "") -> tuple[bytes, str]:
    """The text and its type, in the form that an `Accept` header wants (RFC 9110 12.5.1)."""
    encode, kind = choose_encoder(accept)
    return encode(Collector(readings)), kind


def _metric(family: Family, readings: Readings) -> Metric:
    if family.kind == "info":
        info = InfoMetricFamily(family.name, family.help)
        for values, _ in family.samples(readings):
            info.add_metric((), dict(zip(family.labels, values, strict=True)))
        return info
    kind = CounterMetricFamily if family.kind == "counter" else GaugeMetricFamily
    metric = kind(family.name, family.help, labels=family.labels)
    for values, value in family.samples(readings):
        metric.add_metric(values, value)
    return metric


def _buckets(steps: Counter[int]) -> list[tuple[str, float]]:
    """Counts up to each doubling: the steps of a delay lie between them, DELAY_STEPS each."""
    ends = [power * DELAY_STEPS for power in range(1, DOUBLINGS + 1)]
    buckets = [(str(delay_of_step(end)), sum(count for step, count in steps.items() if step < end)) for end in ends]
    return [*buckets, ("+Inf", sum(steps.values()))]


def _sum(steps: Counter[int]) -> float:
    """Sum the delays; each counts as the middle of its step."""
    return sum(count * delay_of_step(step + 0.5) for step, count in steps.items())
