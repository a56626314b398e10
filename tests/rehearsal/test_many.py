"""Many runs, their bands, what cannot be carried, and values that are searched."""

from __future__ import annotations

import re
from typing import Any

import pytest

from copper_kite.errors import InputError
from copper_kite.rehearsal.capacity import overloads
from copper_kite.rehearsal.conclusion import conclude
from copper_kite.rehearsal.find import find_value, parse_goal
from copper_kite.rehearsal.loads import Steady
from copper_kite.rehearsal.many import run_many
from copper_kite.rehearsal.past import Past
from copper_kite.rehearsal.scenario import scenario_of
from copper_kite.rehearsal.world import Basis, Rehearsal, period_of
from copper_kite.settings.load import Loaded
from tests.configuration import connector
from tests.rehearsal.worlds import configured

NOW = 1_800_000_000.0


def basis(loaded: Loaded, per_hour: float, **scenario: Any) -> Basis:
    since, until = period_of(scenario_of(scenario), NOW)
    return Basis(loaded, Steady(per_hour / 3600, "r@passenger.example"), Past(0, 0), since, until)


def prepared(loaded: Loaded, per_hour: float, **scenario: Any) -> Rehearsal:
    return basis(loaded, per_hour, **scenario).prepared(scenario_of(scenario))


def test_an_outage_is_what_arithmetic_says() -> None:
    """600 an hour for six hours, and a next hop that takes one a second."""
    rehearsal = prepared(
        configured(retry={"waits": ["1m"], "notice_after": "4h"}), 600, down=["beacon=6h"], service=["beacon=1/s"]
    )
    bands = run_many(rehearsal, 4, processors=1)
    figures = bands.figures
    largest, empty, notices = figures["largest_queue"], figures["empty_after"], figures["notices"]
    assert largest is not None and empty is not None and notices is not None
    assert largest.median == pytest.approx(3600, rel=0.05) and largest.low <= largest.median <= largest.high
    # 3,600 messages and 1,200 notices leave one a second, while one in six seconds comes; and a look every minute
    assert empty.median == pytest.approx((3600 + 1200) / (1 - 1 / 6) + 30, rel=0.1)
    assert notices.median == pytest.approx(1200, rel=0.1)
    conclusion = conclude(rehearsal, bands)
    assert not conclusion.bad and "nothing expires" in " ".join(conclusion.sentences)
    assert not conclusion.next, "it is the next hop that takes no more"


def test_mail_that_is_never_relayed_has_no_delay_and_meets_no_goal() -> None:
    rehearsal = prepared(configured(retry={"waits": ["1h"]}), 4, down=["beacon=20d@2027-01-15"], **{"for": "1d"})
    bands = run_many(rehearsal, 2, processors=1)
    assert bands.figures["delay_p95"] is None and not parse_goal("p95 delay < 30m").met(bands)
    conclusion = conclude(rehearsal, bands)
    assert conclusion.bad and "is relayed; " in conclusion.sentences[-1] and "None of" in conclusion.sentences[-1]


def test_the_number_of_processors_changes_nothing() -> None:
    rehearsal = prepared(configured(), 60, down=["beacon=1h"])
    assert run_many(rehearsal, 6, processors=1) == run_many(rehearsal, 6, processors=2)


def test_runs_end_when_the_medians_are_known() -> None:
    rehearsal = prepared(configured(retry={"waits": ["1m"]}), 300, down=["beacon=2h"])
    done: list[int] = []
    assert run_many(rehearsal, 40, width=0.5, progress=done.append, processors=1).runs == done[-1] < 20
    assert run_many(rehearsal, 9, width=0.0, processors=1).runs == 9


def test_mail_that_expires_is_bad() -> None:
    loaded = configured(retry={"lifetime": "3h", "waits": ["5m"]})
    bands = run_many(rehearsal := prepared(loaded, 60, down=["beacon=6h"]), 2, processors=1)
    expired = bands.figures["expired"]
    assert expired is not None and expired.low > 100
    assert conclude(rehearsal, bands).bad


@pytest.mark.parametrize(
    ("scenario", "keys", "limit", "would_do"),
    [
        ({"service": ["beacon=500/h"]}, {}, "next hop", "a next hop that takes 6[56]./h"),
        ({"service": ["beacon=30s"]}, {"sessions": 4}, "sessions", "sessions = 6"),
        ({}, {"pace": "500/h"}, "pace", "a pace of 6[56]./h"),
        ({"allowance": ["beacon=9000/day"]}, {}, "allowance", "an allowance of 15.../day"),
    ],
)
def test_a_load_that_can_never_leave_is_said_with_what_would_do(
    scenario: dict[str, Any], keys: dict[str, Any], limit: str, would_do: str
) -> None:
    rehearsal = prepared(configured(**keys), 600, **scenario)
    bands = run_many(rehearsal, 1, processors=1)
    (overload,) = overloads(rehearsal, bands.offered)
    assert overload.limit == limit and overload.comes == pytest.approx(600, rel=0.05)
    conclusion = conclude(rehearsal, bands)
    assert conclusion.bad and len(conclusion.overloads) == 1
    assert re.search(would_do, " ".join(conclusion.sentences))


def test_a_disabled_connector_carries_nothing_and_is_no_fault() -> None:
    loaded = configured(connector("harbour", "gate.harbouroffice.example:465", recipients=["x.example"], enabled=False))
    rehearsal = prepared(loaded, 60)
    assert not conclude(rehearsal, run_many(rehearsal, 1, processors=1)).overloads


def test_what_lasts_all_the_time_is_no_trouble_that_ends() -> None:
    rehearsal = prepared(configured(), 60, slow=["beacon=10x"])
    assert not rehearsal.troubles_over
    assert "after that" not in " ".join(conclude(rehearsal, run_many(rehearsal, 1, processors=1)).sentences)


def test_names_that_are_not_there_are_said() -> None:
    loaded = configured()
    for key, text in (("down", "beakon=1h"), ("slow", "nobody=2x"), ("service", "x=1/s"), ("allowance", "x=1/day")):
        with pytest.raises(InputError, match="there is no connector"):
            prepared(loaded, 60, **{key: [text]})
    with pytest.raises(InputError, match="did you mean beacon"):
        prepared(loaded, 60, without=["becon"])
    with pytest.raises(InputError, match="there is no connector 'x'"):
        prepared(loaded, 60, set=["connector.x.sessions=5"])
    with pytest.raises(InputError, match="write it as"):
        prepared(loaded, 60, set=["sessions=5"])
    with pytest.raises(InputError, match="did you mean 'sessions'"):
        prepared(loaded, 60, set=["connector.beacon.session=5"])


def test_changes_of_the_configuration_are_made() -> None:
    loaded = configured(connector("harbour", "gate.harbouroffice.example:465", recipients=["harbouroffice.example"]))
    changes = ["connector.beacon.sessions=3", "retry.waits=1m,2m"]
    rehearsal = prepared(loaded, 60, set=changes, without=["harbour"], allowance=["beacon=200/day"])
    (beacon,) = rehearsal.loaded.settings.connector
    assert beacon.sessions == 3 and str(beacon.allowance[0]) == "200/day"
    assert rehearsal.loaded.settings.retry.waits == [60.0, 120.0]


def test_the_fewest_sessions_are_found() -> None:
    """600 an hour of 20 s each keep 3.3 sessions at work."""
    here = basis(configured(sessions=20), 600, service=["beacon=20s"])
    scenario = scenario_of({"service": ["beacon=20s"], "for": "3h"})
    result = find_value(here, scenario, "sessions", parse_goal("p95 delay < 60s"), 2)
    assert result.value in ("4", "5") and result.command == f"kite connector set beacon sessions={result.value}"
    assert {trial.value: trial.met for trial in result.trials}[str(int(result.value) - 1)] is False


def test_the_longest_wait_is_found() -> None:
    here = basis(configured(), 60, down=["beacon=2h"])
    scenario = scenario_of({"down": ["beacon=2h"]})
    result = find_value(here, scenario, "waits", parse_goal("empty after < 12m"), 3)
    assert result.value is not None and result.command == f"kite config set retry waits={result.value}"
    assert result.value.endswith(("5m", "10m"))


def test_the_smallest_allowance_is_found() -> None:
    here = basis(configured(), 60)
    result = find_value(here, scenario_of({}), "beacon.allowance", parse_goal("max delay < 10m"), 2)
    assert result.value is not None and 1300 < int(result.value.removesuffix("/day")) < 1600


def test_a_goal_that_nothing_meets_is_said() -> None:
    here = basis(configured(), 60, down=["beacon=2h"])
    result = find_value(here, scenario_of({"down": ["beacon=2h"]}), "waits", parse_goal("max delay < 1m"), 1)
    assert result.value is None and not result.command and not any(trial.met for trial in result.trials)


@pytest.mark.parametrize("text", ["p95", "p95 delay < soon", "speed < 5", "p95 delay > 5m"])
def test_what_is_no_goal_says_so(text: str) -> None:
    with pytest.raises(InputError, match=r"p95 delay < 30m|is not a duration"):
        parse_goal(text)
