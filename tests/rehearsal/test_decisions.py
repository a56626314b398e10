"""A rehearsal has no decisions of its own: changed in one place, both change."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from copper_kite.rehearsal.measures import Measures
from copper_kite.rehearsal.next_hops import Away, Refusal
from copper_kite.rehearsal.run import run_once
from copper_kite.relay.concurrency import Concurrency
from copper_kite.relay.ledger import Ledger
from copper_kite.relay.notices import Notices
from copper_kite.relay.turns import WEIGHTS
from copper_kite.smtp.replies import Reply
from copper_kite.words import Priority
from tests.rehearsal.truth import SCENES, play_real, play_rehearsed
from tests.rehearsal.worlds import BEGIN, all_delays, configured, poisson, world_of


@pytest.mark.data_folder
def test_another_wait_before_a_retry_changes_the_server_and_its_rehearsal(
    monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    """The wait after a failure is one function; a server and a rehearsal ask it."""
    scene = SCENES[0]
    monkeypatch.setattr("copper_kite.relay.hops.backoff", lambda failures, retry, chance: 2100.0)
    real, rehearsed = play_real(scene, tmp_path, 1), play_rehearsed(scene, tmp_path, 1)
    assert real.empty_after > 1000 and rehearsed.empty_after == pytest.approx(real.empty_after, rel=0.1)


def _run(**keys: Any) -> Measures:
    loaded = configured(retry={"waits": ["1m", "5m"], "lifetime": "2h", "notice_after": "20m"}, **keys)
    away = [Away(BEGIN + 600, BEGIN + 3000)]
    refused = [Refusal("crew.example", Reply(451, "4.3.0", "later"), BEGIN, BEGIN + 3600)]
    world = world_of(loaded, 3600.0, trouble=(600.0, 3000.0), away=away, refusals=refused, service=(2.0,))
    return run_once(world, poisson(0.3, 3600.0, 1, "passenger.example", "crew.example"), 1)


CHANGES: dict[str, Callable[[pytest.MonkeyPatch], None]] = {
    "retry of a message": lambda patch: patch.setattr(
        "copper_kite.relay.delivery.retry_at", lambda now, attempts, expires, retry, chance: min(now + 7.0, expires)
    ),
    "classes of replies": lambda patch: patch.setattr("copper_kite.relay.delivery.classify", _all_relayed),
    "places of a lane": lambda patch: patch.setattr("copper_kite.relay.supply.MAX_IN_LANE", 1),
    "which connector": lambda patch: patch.setattr("copper_kite.routing.choose.Router.carrier", lambda *_: ""),
    "how many sessions": lambda patch: patch.setattr(Concurrency, "allowed", lambda self, now: 1),
    "when a sender is told": lambda patch: patch.setattr(
        Notices, "late_at", lambda self, arrived, expires: arrived + 60
    ),
    "what an allowance lets leave": lambda patch: patch.setattr(
        Ledger, "crowded", lambda self, count: self._on_their_way > 0
    ),
    "how long a next hop is left alone": lambda patch: patch.setattr(
        "copper_kite.relay.hops.backoff", lambda failures, retry, chance: 2000.0
    ),
}


def _all_relayed(stage: object, reply: object) -> Any:
    from copper_kite.words import State

    return State.RELAYED


@pytest.mark.parametrize("change", CHANGES)
def test_each_decision_is_that_of_the_server(monkeypatch: pytest.MonkeyPatch, change: str) -> None:
    """Replaced in `relay` or `routing`, it shows in what a rehearsal comes to."""
    keys = {"allowance": ["100000/hour"]} if "allowance" in change else {}
    before = _run(**keys)
    CHANGES[change](monkeypatch)
    after = _run(**keys)
    assert (before.relayed, before.waiting, sorted(all_delays(before))) != (
        after.relayed,
        after.waiting,
        sorted(all_delays(after)),
    )


def test_turns_are_those_of_the_server(monkeypatch: pytest.MonkeyPatch) -> None:
    """Urgent mail comes before bulk mail, by the weights of `relay.turns`."""

    def waits() -> tuple[float, float]:
        mixed = [
            item._replace(priority=priority)
            for priority in (4, -4)
            for item in poisson(0.3, 3600.0, priority, who=f"p{priority}")
        ]
        world = world_of(configured(sessions=1), 3600.0, service=(2.5,))
        delays = run_once(world, iter(sorted(mixed)), 1).delays
        urgent, bulk = delays["p4", 4], delays["p-4", -4]
        return sum(urgent) / len(urgent), sum(bulk) / len(bulk)

    urgent, bulk = waits()
    assert urgent < bulk / 20
    monkeypatch.setitem(WEIGHTS, Priority.URGENT, WEIGHTS[Priority.BULK])
    urgent, bulk = waits()
    assert urgent > bulk / 2
