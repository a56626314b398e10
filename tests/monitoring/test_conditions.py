"""What alarms watch: when it is so, and in which words."""

from __future__ import annotations

import math
from dataclasses import replace
from pathlib import Path

import pytest

from copper_kite.errors import SettingsError
from copper_kite.monitoring import Disk, Problem, Readings, describe_condition
from copper_kite.monitoring.totals import Sums
from copper_kite.settings.alarm import ALARM_KINDS, Alarm
from copper_kite.settings.load import load_configuration
from copper_kite.settings.units import Allowance
from copper_kite.store import LaneStop, Tally
from copper_kite.store.model import QueueSummary
from copper_kite.trace import Flow, UsedAllowance, flow_of
from copper_kite.words import State
from tests.support import write_site

NOW = 1_780_000_000.0
MIB = 1024**2


@pytest.fixture
def well(folder: Path) -> Readings:
    return Readings(
        now=NOW, loaded=load_configuration(write_site(folder, 2525, tls="off")), running=None, sums=Sums(),
        summary=QueueSummary(), lanes=(), stops=(), connectors=(), allowances=(), certificates=(),
        disk=Disk(5000 * MIB, 9000 * MIB, 64 * MIB), octets=0, dropped=0, faults=0, problems=(),
        flow=Flow(), surges=(), unusable_keys=(), token_problems=(), raised=frozenset(),
    )  # fmt: skip


def stop(connector: str, seconds: float, domain: str = "") -> LaneStop:
    known = {"connector": connector, "domain": domain, "since": NOW - seconds, "until": math.inf, "at": NOW}
    return LaneStop(**{name: known.get(name, "refused" if name == "text" else "") for name in LaneStop._fields})  # type: ignore[arg-type]


def last_hour(**recipients: int) -> Flow:
    minute = int(NOW) // 60
    return flow_of([Tally(minute, "", outcome, count) for outcome, count in recipients.items()], NOW)


def queue(**states: int) -> QueueSummary:
    return QueueSummary(by_state={State(name): count for name, count in states.items()}, messages=1, oldest=NOW - 7200)


# What is so, by kind; a limit; the words that tell of it, and a limit at which it is not so any more.
CASES: dict[str, tuple[dict[str, object], object, str, object]] = {
    "connector_failing": ({"stops": [stop("beacon", 1200)]}, "15m", "beacon has not got through for 20m", "25m"),
    "oldest_waiting": ({"summary": queue(delayed=1)}, "1h", "has waited for 2h", "3h"),
    "waiting": ({"summary": queue(delayed=3, queued=2, parked=9)}, 4, "5 recipients wait", 5),
    "failed_share": ({"flow": last_hour(failed=10, relayed=30)}, 0.2, "10 of 40 recipients failed", 0.25),
    "refused": ({"flow": last_hour(refused=7)}, 6, "refused 7 recipients", 7),
    "allowance": (
        {"allowances": [UsedAllowance("beacon", Allowance(100, "day"), 95)]},
        0.9,
        "used 95 of its allowance 100/day",
        0.95,
    ),
    "disk": ({"disk": Disk(500 * MIB, 900 * MIB, 64 * MIB)}, "501MiB", "500 MiB are left", "500MiB"),
    "certificate_expires": (
        {"certificates": [("next hop", "gate:465 of harbour", NOW + 86400.0)]},
        "2d",
        "next hop gate:465 of harbour ends in 1d",
        "1d",
    ),
    "surge": ({"surges": ["www-data", "www-data"]}, None, "far more than ever: www-data", None),
    "configuration": ({"problems": [Problem("configuration", "line 3")]}, None, "line 3", None),
    "tokens": (
        {"token_problems": [("beacon", "invalid_grant", NOW - 7200)]},
        None,
        "gets no new token for 2h: invalid_grant",
        None,
    ),
    "signing": ({"unusable_keys": ["the key e1.pem cannot be used"]}, None, "mail from there waits", None),
    "drop_folder": ({"dropped": 3}, 2, "3 messages lie in the drop folder", 3),
}


def alarm(kind: str, limit: object) -> Alarm:
    return Alarm.model_validate({"name": "x", "when": kind, "to": "duty@crew.example", "limit": limit})


@pytest.mark.parametrize("kind", sorted(ALARM_KINDS))
def test_each_kind_holds_beyond_its_limit_and_not_at_it(well: Readings, kind: str) -> None:
    so, limit, words, higher = CASES[kind]
    assert describe_condition(alarm(kind, None), well) == ""
    ill = replace(well, **so)  # type: ignore[arg-type]
    assert words in describe_condition(alarm(kind, limit), ill)
    assert higher is None or describe_condition(alarm(kind, higher), ill) == ""


def test_a_domain_that_cannot_be_had_is_no_failing_connector(well: Readings) -> None:
    assert (
        describe_condition(alarm("connector_failing", "1s"), replace(well, stops=[stop("beacon", 9999, "x.example")]))
        == ""
    )


def test_a_few_failures_are_no_share(well: Readings) -> None:
    few = replace(well, flow=last_hour(failed=19))
    assert describe_condition(alarm("failed_share", 0.1), few) == ""


@pytest.mark.parametrize(
    ("kind", "limit", "words"),
    [
        ("waiting", "many", "not a number"),
        ("failed_share", 20, "not a share"),
        ("oldest_waiting", 30, "not a duration"),
        ("surge", 3, "has no limit"),
        ("disk", "much", "not a size"),
    ],
)
def test_a_limit_of_the_wrong_kind_is_told(kind: str, limit: object, words: str) -> None:
    with pytest.raises(ValueError, match=words):
        alarm(kind, limit)


def test_a_kind_that_there_is_not_is_one_finding(folder: Path) -> None:
    config = write_site(folder, 2525, tls="off", extra='[[alarm]]\nname = "x"\nwhen = "disc"\nto = "a@b.example"\n')
    with pytest.raises(SettingsError) as caught:
        load_configuration(config)
    assert [finding.key for finding in caught.value.findings] == ["alarm[1].when"]


def test_an_alarm_that_nobody_hears_and_one_by_no_connector(folder: Path) -> None:
    unheard = '[[alarm]]\nname = "x"\nwhen = "disk"\n'
    lost = '[[alarm]]\nname = "y"\nwhen = "disk"\nto = "a@b.example"\nconnector = "beacom"\n'
    with pytest.raises(SettingsError) as caught:
        load_configuration(write_site(folder, 2525, tls="off", extra=unheard + lost))
    assert [finding.key for finding in caught.value.findings] == ["alarm[1].command", "alarm[2].connector"]
    assert "beacon" in caught.value.findings[1].remedy
