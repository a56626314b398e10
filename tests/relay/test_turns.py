"""Senders that share a lane take turns, weighted by priority."""

from __future__ import annotations

from collections import Counter, deque

import pytest
from hypothesis import given
from hypothesis import strategies as st

from copper_kite.relay.turns import WEIGHTS, Flow, Turns
from copper_kite.words import Priority

NORMAL = Flow("rota", Priority.NORMAL)
FLOWS = [Flow(who, priority) for who in ("rota", "ticketing", "manifest") for priority in Priority]


@given(
    st.lists(st.tuples(st.sampled_from(["append", "put back", "take"]), st.sampled_from(FLOWS)), max_size=200),
)
def test_each_flow_keeps_its_order_and_nothing_is_lost(steps: list[tuple[str, Flow]]) -> None:
    turns: Turns[tuple[Flow, int]] = Turns()
    model: dict[Flow, deque[tuple[Flow, int]]] = {flow: deque() for flow in FLOWS}
    for number, (step, flow) in enumerate(steps):
        if step == "append":
            turns.append(flow, (flow, number))
            model[flow].append((flow, number))
        elif step == "put back":
            turns.put_back(flow, (flow, number))
            model[flow].appendleft((flow, number))
        elif len(turns):
            item = turns.next()
            assert turns.take() == item == model[item[0]].popleft()
        assert len(turns) == sum(map(len, model.values()))
        assert turns.waiting(flow) == len(model[flow])
    assert sorted(turns.clear()) == sorted(item for flow in model.values() for item in flow)
    with pytest.raises(IndexError):
        turns.take()


def test_turns_are_by_weight_and_equal_among_equals() -> None:
    turns: Turns[Flow] = Turns()
    for flow in FLOWS:
        for _ in range(2000):
            turns.append(flow, flow)
    taken = Counter(turns.take() for _ in range(3330))
    for priority, weight in WEIGHTS.items():
        assert [abs(taken[flow] - 10 * weight) <= 1 for flow in FLOWS if flow.priority is priority] == [True] * 3


@pytest.mark.parametrize(("priority", "most"), [(Priority.URGENT, 0), (Priority.NORMAL, 1), (Priority.BULK, 10)])
def test_one_message_passes_a_long_backlog_of_another_sender(priority: Priority, most: int) -> None:
    """Also when that one has had its turns for long already."""
    turns: Turns[str] = Turns()
    for _ in range(500):
        turns.append(NORMAL, "rota")
    for _ in range(300):
        turns.take()
    turns.append(Flow("tidewatch", priority), "tidewatch")
    before = 0
    while turns.take() != "tidewatch":
        before += 1
    assert before <= most


def test_one_that_is_taken_out_again_leaves_the_others() -> None:
    turns: Turns[str] = Turns()
    turns.append(NORMAL, "first")
    turns.append(FLOWS[0], "urgent")
    turns.drop_last(NORMAL, "another")
    turns.drop_last(FLOWS[0], "urgent")
    assert list(turns) == ["first"] and turns.take() == "first" and not turns
