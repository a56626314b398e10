"""The contract of the store: what of it is about lanes and connectors. It runs against every engine."""

from __future__ import annotations

from math import inf

from copper_kite.store import (
    LaneStop,
    Recipient,
    RecordAttempt,
    Reroute,
    Selection,
    SetState,
    StartLane,
    StopLane,
    Store,
)
from copper_kite.words import State
from tests.store.test_contract import attempt, write
from tests.store.turns import message, submission
from tests.support import whole


def stop(connector: str, domain: str, text: str, until: float = 90.0) -> LaneStop:
    return LaneStop(
        connector, domain, 5.0, until, 60.0, "connect", "path", "connection refused", None, "", text, "h:25"
    )


def test_what_waits_in_a_lane_that_does_not_move_is_shown_as_delayed(store: Store) -> None:
    """Nothing is written of it; lists, groups, totals and stories go by the fact of the lane."""
    routed = {1: "beacon", 2: "beacon", 3: "direct", 4: "direct", 5: ""}
    for id, connector in routed.items():
        recipient = Recipient(id, 1, f"r@{'dead' if id == 3 else 'live'}.example", connector=connector)
        write(store, whole(message(id), [recipient], b"abc"))
    tried = SetState(2, 1, State.DELAYED, 1, 60.0, "beacon", "451 own", 5.0)
    stops = [
        stop("beacon", "", "beacon is down"),
        stop("direct", "dead.example", "dead's {host} is down"),
        stop("", "", "nobody", inf),
    ]
    write(store, [tried, *map(StopLane, stops)])
    with store.reader() as reader:
        rows = {row.message.id: row.recipient for row in reader.queue()}
        assert {id: (item.state.value, item.reply, item.next_try) for id, item in rows.items()} == {
            1: ("delayed", "beacon is down", 90.0), 2: ("delayed", "451 own", 90.0),
            3: ("delayed", "dead's {host} is down", 90.0), 4: ("queued", "", rows[4].next_try), 5: ("delayed", "nobody", None),
        }  # fmt: skip
        assert reader.totals() == reader.summary().by_state == {State.DELAYED: 4, State.QUEUED: 1}
        assert {group.name: group.recipients for group in reader.groups("reason")} == {
            "beacon is down": 1, "451 own": 1, "dead's {host} is down": 1, "nobody": 1, "": 1,
        }  # fmt: skip
        assert {group.name: group.next_try for group in reader.groups("next hop")}["h:25"] is not None
        assert [row.message.id for row in reader.select(Selection(states=[State.DELAYED]))] == [1, 2, 3, 5]
        assert [row.message.id for row in reader.select(Selection(states=[State.QUEUED]))] == [4]
        assert [row.message.id for row in reader.select(Selection(reason="is down"))] == [1, 3]
        assert [row.message.id for row in reader.select(Selection(next_hop="h:"))] == [1, 3, 5]
        assert [row.message.id for row in reader.select(Selection(connector="beacon"))] == [1, 2]
        (wait,) = reader.record(3).attempts
        assert (wait.cause, wait.connector, wait.facts.results[0].state) == ("connection refused", "direct", "delayed")
        assert reader.record(2).attempts == reader.record(4).attempts == []
        assert {row.number for row in reader.waiting([1, 3, 4, 5], 50.0)} == {1}, "for the server they are queued"
    write(store, [StopLane(stop("direct", "", "allowance")), StartLane("beacon", ""), StartLane("", "")])
    with store.reader() as reader:
        assert {row.message.id: row.recipient.reply for row in reader.queue()} == {
            1: "", 2: "451 own", 3: "allowance", 4: "allowance", 5: "",
        }  # fmt: skip


def test_what_our_own_faults_hold_is_counted(store: Store) -> None:
    write(store, *(submission(id) for id in range(1, 5)))
    ours, theirs = "our own fault 12AB34: ValueError in relay/lane.py:1", "450 4.7.1 not our own fault"
    held = [(1, State.DELAYED, ours), (2, State.PARKED, ours), (3, State.DELAYED, theirs), (4, State.FAILED, ours)]
    outcomes = [SetState(id, 1, state, 1, 60.0, "beacon", reply, 5.0) for id, state, reply in held]
    write(store, [*outcomes])
    with store.reader() as reader:
        assert reader.held_by_faults() == 2


def test_another_connector_carries_what_waits(store: Store) -> None:
    write(store, submission(1), submission(2, "a@y", "b@y"))
    write(store, [Reroute("harbour", 1, 1), Reroute("harbour", 2, 2), Reroute("harbour", 9, 1)])
    with store.reader() as reader:
        assert [row.recipient.connector for row in reader.queue()] == ["harbour", "", "harbour"]


def test_connectors_remember_their_last_good_and_bad(store: Store) -> None:
    write(store, [RecordAttempt(attempt(1, 1, 1, "ok")), RecordAttempt(attempt(2, 1, 0, "refused", "connect"))])
    write(
        store,
        [RecordAttempt(attempt(3, 1, 1, "ok")), RecordAttempt(attempt(4, 1, 0, "no such mailbox", "recipient"))],
    )
    with store.reader() as reader:
        (state,) = reader.connectors()
        assert (state.last_good, state.last_bad, state.last_bad_text) == (3.0, 2.0, "250 refused")
        assert reader.last_id() == 4
