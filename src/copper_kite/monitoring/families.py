"""Every metric there is: its name, its kind, its labels, what it means, and where its values come from.

Names and units go by the conventions of the Prometheus documentation: base units (seconds, bytes), `_total` for
counters, and labels of which the configuration bounds the number. docs/metrics.md is made from this table.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Sequence
from typing import Literal, NamedTuple

from copper_kite import __version__
from copper_kite.monitoring.readings import Readings
from copper_kite.words import OPEN, OUTCOMES

__all__ = ["FAMILIES", "Family"]

Sample = tuple[Sequence[str], float]  # the values of the labels, and the value


class Family(NamedTuple):
    """A metric; `samples` gives its values."""

    name: str
    kind: Literal["counter", "gauge", "info"]
    help: str
    labels: tuple[str, ...]
    samples: Callable[[Readings], Iterable[Sample]]


def _one(value: Callable[[Readings], float | None]) -> Callable[[Readings], Iterable[Sample]]:
    """The samples of a metric without labels; none where there is no value."""

    def samples(readings: Readings) -> Iterable[Sample]:
        result = value(readings)
        return [] if result is None else [((), result)]

    return samples


def _names(readings: Readings) -> list[str]:
    return [connector.name for connector in readings.loaded.settings.connector]


def _recipients(readings: Readings) -> Iterable[Sample]:
    """Of each connector that the configuration has, also where it is none: a rate wants to begin there."""
    counts = Counter(readings.sums.recipients)
    for outcome in OUTCOMES:
        for name in [""] if outcome in ("accepted", "refused") else _names(readings):
            counts[outcome, name] += 0
    return [((name, outcome), count) for (outcome, name), count in sorted(counts.items()) if outcome in OUTCOMES]


def _by_connector(readings: Readings, values: Callable[[str], float]) -> Iterable[Sample]:
    return [((name,), values(name)) for name in _names(readings)]


def _sessions(readings: Readings) -> Iterable[Sample]:
    return _by_connector(readings, lambda name: sum(lane.open for lane in readings.lanes if lane.connector == name))


def _hops_down(readings: Readings) -> Iterable[Sample]:
    return _by_connector(
        readings, lambda name: sum(len(lane.down) for lane in readings.lanes if lane.connector == name)
    )


def _stopped(readings: Readings) -> Iterable[Sample]:
    return _by_connector(readings, lambda name: sum(stop.connector == name for stop in readings.stops))


def _last(readings: Readings, *, good: bool) -> Iterable[Sample]:
    known = ((state.name, state.last_good if good else state.last_bad) for state in readings.connectors)
    return [((name,), at) for name, at in known if at is not None]


def _age(readings: Readings) -> float:
    oldest = readings.summary.oldest
    return 0.0 if oldest is None else max(readings.now - oldest, 0.0)


FAMILIES = (
    Family("kite_build", "info", "The version of Copper Kite.", ("version",), lambda readings: [((__version__,), 1)]),
    Family(
        "kite_start_time_seconds", "gauge", "When the server started; absent while none runs.", (),
        _one(lambda readings: None if readings.running is None else readings.running.since),
    ),
    Family(
        "kite_healthy", "gauge", "1 while /health answers 200, else 0.", (),
        _one(lambda readings: float(not readings.problems)),
    ),
    Family(
        "kite_recipients_total", "counter",
        "Recipients by what became of them; accepted and refused ones have no connector yet, and each attempt that puts"
        " one off counts as delayed.",
        ("connector", "outcome"), _recipients,
    ),
    Family(
        "kite_relayed_bytes_total", "counter", "Octets of messages relayed, once for each recipient.", ("connector",),
        lambda readings: sorted(((name,), octets) for name, octets in readings.sums.octets.items()),
    ),
    Family(
        "kite_reasons_total", "counter",
        "Recipients delayed, failed or refused, by the reason: codes of the reply and stage, or the cause; after 50"
        " different ones, the rest is other.",
        ("outcome", "reason"),
        lambda readings: sorted(readings.sums.reasons.items()),
    ),
    Family(
        "kite_queue_recipients", "gauge", "Recipients in the queue, by state.", ("state",),
        lambda readings: [((state.value,), readings.summary.by_state.get(state, 0)) for state in OPEN],
    ),
    Family("kite_queue_messages", "gauge", "Messages in the queue.", (),
           _one(lambda readings: readings.summary.messages)),
    Family("kite_queue_bytes", "gauge", "Octets of the messages in the queue.", (),
           _one(lambda readings: readings.summary.octets)),
    Family("kite_queue_oldest_age_seconds", "gauge", "How long the oldest message has waited; 0 where none waits.", (),
           _one(_age)),
    Family("kite_alarm_raised", "gauge", "1 while the alarm is raised, else 0.", ("alarm",),
           lambda readings: [((alarm.name,), float(alarm.name in readings.raised))
                             for alarm in readings.loaded.settings.alarm if alarm.enabled]),
    Family("kite_sessions_open", "gauge", "Sessions with next hops at this moment.", ("connector",), _sessions),
    Family("kite_next_hops_down", "gauge", "Next hops that are remembered as down.", ("connector",), _hops_down),
    Family("kite_lanes_stopped", "gauge", "Lanes that do not move: one for a connector, with MX one for a domain.",
           ("connector",), _stopped),
    Family("kite_last_relayed_timestamp_seconds", "gauge", "When the connector last relayed a message.", ("connector",),
           lambda readings: _last(readings, good=True)),
    Family("kite_last_failure_timestamp_seconds", "gauge", "When an attempt of the connector last came to nothing.",
           ("connector",), lambda readings: _last(readings, good=False)),
    Family("kite_allowance_used_recipients", "gauge", "Recipients relayed in the period of an allowance.",
           ("connector", "allowance"),
           lambda readings: [((used.connector, str(used.allowance)), used.used) for used in readings.allowances]),
    Family("kite_allowance_recipients", "gauge", "Recipients that an allowance lets through in its period.",
           ("connector", "allowance"),
           lambda readings: [((used.connector, str(used.allowance)), used.allowance.count)
                             for used in readings.allowances]),
    Family("kite_certificate_expiry_timestamp_seconds", "gauge",
           "Until when a certificate is valid: a listener's, or a next hop's as last seen.",
           ("kind", "name"), lambda readings: [((kind, name), end) for kind, name, end in readings.certificates]),
    Family("kite_disk_free_bytes", "gauge", "Room left on the disk of the data folder.", (),
           _one(lambda readings: None if readings.disk is None else readings.disk.free)),
    Family("kite_disk_keep_free_bytes", "gauge", "Room that is to stay free: below it nothing is taken in.", (),
           _one(lambda readings: readings.loaded.settings.server.keep_free)),
    Family("kite_data_bytes", "gauge", "What the queue and the journal take of the disk.", (),
           _one(lambda readings: readings.octets)),
    Family("kite_drop_folder_messages", "gauge", "Messages in the drop folder that are not taken up yet.", (),
           _one(lambda readings: readings.dropped)),
    Family("kite_held_recipients", "gauge", "Recipients held by faults of this program's own.", (),
           _one(lambda readings: readings.faults)),
)  # fmt: skip
