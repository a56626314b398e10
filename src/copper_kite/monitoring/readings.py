"""The state of a server at one moment, from the store and the files of the data folder."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from copper_kite.monitoring.health import Disk, Problem, disk_of, find_problems
from copper_kite.monitoring.totals import Sums, Totals
from copper_kite.net import read_token_problems
from copper_kite.settings import Loaded, unusable_keys
from copper_kite.store import (
    ConnectorState,
    LaneNow,
    LaneStop,
    QueueSummary,
    Running,
    dropped_names,
    open_store,
    read_alarms,
    read_live,
    read_note,
    running_server,
)
from copper_kite.trace import Flow, UsedAllowance, certificate_ends, flow_of, used_allowances
from copper_kite.words import Event

__all__ = ["Readings", "take_readings"]


HOUR = 3600.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Readings:
    """One look at a server. `certificates` has `listener` or `next hop`, its name, and the end in seconds since 1970;
    `octets` is what the queue and the journal take of the disk.
    """

    now: float
    loaded: Loaded
    running: Running | None
    sums: Sums
    summary: QueueSummary
    lanes: Sequence[LaneNow]
    stops: Sequence[LaneStop]
    connectors: Sequence[ConnectorState]
    allowances: Sequence[UsedAllowance]
    certificates: Sequence[tuple[str, str, float]]
    disk: Disk | None
    octets: int
    dropped: int
    faults: int
    problems: Sequence[Problem]
    flow: Flow  # of the last hour
    raised: frozenset[str]  # alarms
    surges: Sequence[str]  # senders that the guard slowed down in the last hour
    token_problems: Sequence[tuple[str, str, float]]  # credentials that get no new token: which, why, since when
    unusable_keys: Sequence[str]  # what is wrong with each key that is to sign and cannot


def take_readings(loaded: Loaded, totals: Totals, now: float) -> Readings:
    """Look at the server of this configuration. Raises StoreError where there is no queue, or none that can be read."""
    running, disk = running_server(loaded.data), disk_of(loaded)
    with open_store(loaded.store).reader() as reader:
        faults = reader.held_by_faults()
        return Readings(
            now=now,
            loaded=loaded,
            running=running,
            sums=totals.now(reader, now),
            summary=reader.summary(),
            lanes=read_live(loaded.data) if running is not None else (),
            stops=reader.lanes(),
            connectors=reader.connectors(),
            allowances=used_allowances(reader, loaded.settings.connector, now),
            certificates=certificate_ends(loaded, reader),
            disk=disk,
            octets=reader.size(),
            dropped=len(dropped_names(loaded.drop)),
            faults=faults,
            problems=find_problems(disk, read_note(loaded.data), faults, running=running is not None),
            flow=flow_of(reader.tallies(now - HOUR), now),
            raised=frozenset(alarm.name for alarm in read_alarms(loaded.data) if alarm.notified_at is not None),
            surges=[entry.facts["who"] for entry in reader.noted(Event.SURGE, now - HOUR)],
            token_problems=read_token_problems(loaded.data),
            unusable_keys=[problem for _, problem in unusable_keys(loaded)],
        )  # fmt: skip
