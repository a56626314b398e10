"""Scenarios as they are written, and the time that they are about."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path

import pytest

from copper_kite.errors import InputError
from copper_kite.rehearsal.instants import When, first_day, parse_when
from copper_kite.rehearsal.scenario import (
    Burst,
    Downtime,
    Limit,
    Refused,
    Slowness,
    Takes,
    read_scenario,
    scenario_of,
    scenario_schema,
)
from copper_kite.rehearsal.world import period_of
from copper_kite.settings import Allowance, Pace

NOW = datetime(2026, 11, 25, 15, 30).timestamp()  # a Wednesday
NINE = When(9 * 3600.0)


def day(text: str) -> float:
    return datetime.fromisoformat(text).timestamp()


def test_each_kind_is_read() -> None:
    """On the command line and in a file alike."""
    scenario = scenario_of(
        {
            "down": ("beacon=6h@mon-08:00", "harbour=silent:1h30m"),
            "slow": ("beacon=10x", "beacon=2.5x:2h@14:00"),
            "refuse": ("Passenger.example=451:2h", "crew.example=550"),
            "service": ("beacon=1/s", "harbour=200ms", "third=2s"),
            "allowance": ("beacon=200/day",),
            "burst": ("20000@09:00/ticketing", "5"),
            "rate": "600/h",
            "for": "2d",
        }
    )
    assert scenario.down == [
        Downtime("beacon", 21600.0, When(8 * 3600.0, 0), False),
        Downtime("harbour", 5400.0, NINE, True),
    ]
    assert scenario.slow == [
        Slowness("beacon", 10.0, None, NINE),
        Slowness("beacon", 2.5, 7200.0, When(14 * 3600.0)),
    ]
    assert scenario.refuse == [
        Refused("passenger.example", 451, 7200.0, NINE),
        Refused("crew.example", 550, None, NINE),
    ]
    assert scenario.service == [
        Takes("beacon", Pace(1.0, "s"), 0.0), Takes("harbour", None, 0.2), Takes("third", None, 2.0)
    ]  # fmt: skip
    assert scenario.allowance == [Limit("beacon", Allowance(200, "day"))]
    assert scenario.burst == [Burst(20000, NINE, "ticketing"), Burst(5, NINE, "")]
    assert scenario.rate == Pace(600.0, "h") and scenario.span == 2 * 86400.0


@pytest.mark.parametrize(
    ("key", "text", "says"),
    [
        ("down", "beacon", "beacon=6h@09:00"),
        ("down", "beacon=6", "is not a duration"),
        ("down", "beacon=0s", "no time at all"),
        ("down", "beacon=6h@25:00", "is no time"),
        ("down", "beacon=6h@moo-08:00", "is no time"),
        ("slow", "beacon=10", "beacon=10x"),
        ("slow", "beacon=0x", "no time at all"),
        ("refuse", "x.example=250", "451"),
        ("service", "beacon=fast", "is not a duration"),
        ("allowance", "beacon=200/year", "is not an allowance"),
        ("burst", "many", "20000@09:00/ticketing"),
    ],
)
def test_what_cannot_be_read_says_how_it_is_written(key: str, text: str, says: str) -> None:
    with pytest.raises(InputError, match=f"^{key}: .*{says}") as caught:
        scenario_of({key: (text,)})
    assert caught.value.exit_code == 2


def test_options_come_on_top_of_a_file(tmp_path: Path) -> None:
    file = tmp_path / "monday.toml"
    file.write_text('title = "Monday"\nrate = "600/h"\ndown = ["beacon=6h@mon-08:00"]\n')
    scenario = scenario_of({"rate": "900/h", "down": ("harbour=1h",)}, read_scenario(file))
    assert scenario.title == "Monday" and str(scenario.rate) == "900/h"
    assert [item.name for item in scenario.down] == ["beacon", "harbour"]
    assert scenario.written["down"] == ("beacon=6h@mon-08:00", "harbour=1h")


@pytest.mark.parametrize(
    ("text", "says"),
    [("down = 5", "down"), ("dwon = []", "unknown key"), ("down = [", "is not TOML"), ("load = 0", "load")],
)
def test_a_file_that_cannot_be_used_is_named(tmp_path: Path, text: str, says: str) -> None:
    file = tmp_path / "bad.toml"
    file.write_text(text)
    with pytest.raises(InputError, match=says) as caught:
        read_scenario(file)
    assert str(file) in str(caught.value)


def test_the_schema_has_the_keys_of_the_file() -> None:
    schema = scenario_schema()
    assert schema["properties"]["down"]["type"] == "array" and schema["properties"]["rate"]["type"] == "string"
    assert {"for", "set", "without", "title"} <= set(schema["properties"]) and not schema["additionalProperties"]


def test_the_first_day_is_the_one_that_is_named() -> None:
    assert first_day("", [], NOW) == day("2026-11-26")
    assert first_day("mon", [], NOW) == day("2026-11-30")
    assert first_day("wed", [], NOW) == day("2026-12-02"), "not today, which has begun"
    assert first_day("2026-12-01", [], NOW) == day("2026-12-01")
    assert first_day("", [parse_when("mon-08:00"), parse_when("fri-08:00")], NOW) == day("2026-11-27")
    assert first_day("", [parse_when("2026-12-24 10:00")], NOW) == day("2026-12-24")


def test_the_period_ends_at_the_midnight_after_all_of_it() -> None:
    assert period_of(scenario_of({}), NOW) == (day("2026-11-26"), day("2026-11-27"))
    assert period_of(scenario_of({"down": ["b=6h@20:00"]}), NOW) == (day("2026-11-26"), day("2026-11-28"))
    assert period_of(scenario_of({"down": ["b=6h@tue-20:00"], "start": "mon"}), NOW)[1] == day("2026-12-03")
    with pytest.raises(InputError, match="outside the time"):
        period_of(scenario_of({"down": ["b=6h@tue-20:00"], "start": "mon", "for": "1d"}), NOW)
