"""The queue in memory: what the dispatcher reads of it."""

from __future__ import annotations

from copper_kite.rehearsal.loop import SimulatedLoop
from copper_kite.rehearsal.queue import Ended, MemoryQueue
from copper_kite.store import AddMessage, Message, Recipient, RetryNow, SetState
from copper_kite.words import State


def _queue(ended: list[Ended]) -> MemoryQueue:
    loop = SimulatedLoop(0.0)  # type: ignore[abstract]
    return MemoryQueue(loop, ended.append, lambda key, stop: None)


def _message(id: int, *addresses: str) -> AddMessage:
    at = float(id)
    message = Message(id, at, at + 100, "a@x.example", 1, False, False, "", "programs", "unix", "", "a", "ESMTP")
    named = [Recipient(id, number, address, next_try=at, changed=at) for number, address in enumerate(addresses, 1)]
    return AddMessage(message, named, None)


def _delay(queue: MemoryQueue, id: int, number: int, until: float) -> None:
    queue.submit([SetState(id, number, State.DELAYED, 1, until, "beacon", "451", float(id))], lambda error: None)


def test_messages_are_in_the_order_of_their_ids_however_they_come() -> None:
    """One that gets its place late has arrived before others."""
    queue = _queue([])
    for id in (1, 2, 5, 3, 6, 4):
        queue.add(_message(id, "r@x.example"))
    assert [id for id, _, _ in queue.ages(0, 10)] == [1, 2, 3, 4, 5, 6] and queue.oldest() == 1.0
    for id in (1, 2):
        queue.submit([SetState(id, 1, State.FAILED, 1, None, "beacon", "550", 9.0)], lambda error: None)
    assert [id for id, _, _ in queue.ages(0, 2)] == [3, 4] and queue.oldest() == 3.0
    queue.add(_message(2, "r@x.example"))
    assert queue.oldest() == 2.0 and [id for id, _, _ in queue.ages(2, 9)] == [3, 4, 5, 6]


def test_who_is_delayed_is_read_once_and_in_time() -> None:
    queue = _queue([])
    queue.add(_message(1, "r@x.example", "s@x.example"))
    _delay(queue, 1, 1, 50.0)
    _delay(queue, 1, 2, 40.0)
    _delay(queue, 1, 2, 60.0)  # which takes the place of the earlier one
    assert queue.next_due(0.0) == 50.0
    assert [(row.number, row.next_try) for row in queue.delayed((0.0, 0, 0), 55.0, 10)] == [(1, 50.0)]
    assert not queue.delayed((0.0, 0, 0), 55.0, 10) and queue.next_due(55.0) == 60.0
    queue.submit([RetryNow("beacon", 56.0)], lambda error: None)
    assert [row.number for row in queue.delayed((0.0, 0, 0), 56.0, 10)] == [2], "the first is due already"


def test_a_message_has_ended_when_all_its_recipients_have() -> None:
    ended: list[Ended] = []
    queue = _queue(ended)
    queue.add(_message(1, "r@x.example", "s@x.example"))
    queue.submit([SetState(1, 1, State.FAILED, 1, None, "beacon", "550", 9.0)], lambda error: None)
    assert not queue.is_empty and queue.recipients == 1
    assert [due.recipients[0].number for due in queue.due([1], 99.0)] == [2]
    queue.submit([SetState(1, 2, State.FAILED, 1, None, "beacon", "550", 9.0)], lambda error: None)
    assert queue.is_empty and not queue.recipients and [end.recipient.number for end in ended] == [1, 2]
