"""The move of a queue between the data folder and the database that servers share."""

from __future__ import annotations

from pathlib import Path

import pytest

from copper_kite.errors import FolderInUse
from copper_kite.relay.moving import move_queue
from copper_kite.store import (
    AddContent,
    AddMessage,
    Attempt,
    AttemptFacts,
    FolderLock,
    JournalEntry,
    Recipient,
    RecipientResult,
    Record,
    RecordAttempt,
    SendBy,
    SetState,
    StorePlace,
    WriteEntry,
    open_store,
)
from copper_kite.words import Event, State
from tests.store.turns import message, submission

NAME = "quay1.ternferries.example"


def fill(place: StorePlace) -> None:
    """Messages in each state, one with two portions and two recipients, and one that has ended."""
    attempt = Attempt(
        70, 2, 200.0, 1.5, "beacon", "out:587", "192.0.2.1", "recipient", "next hop", "reply", 451, "4.7.1", "later",
        AttemptFacts([RecipientResult("b@y.example", "delayed", "recipient", "451 4.7.1 later")]), [[0.0, "<", "hi"]],
    )  # fmt: skip
    several = [Recipient(3, number, f"{number}@y.example", changed=100.0, via="") for number in (1, 2)]
    store = open_store(place)
    store.upgrade()
    assert not any(store.write([
        submission(1),
        submission(2),
        [RecordAttempt(attempt), SetState(2, 1, State.DELAYED, 1, 900.0, "beacon", "451 4.7.1 later", 201.5, "out:587")],
        [AddMessage(message(3, size=7), several, None), AddContent(3, 0, b"abc\n"), AddContent(3, 1, b"def")],
        [SetState(3, 1, State.RELAYED, 1, None, "beacon", "250 ok", 150.0), SendBy("harbour", 3, 2)],
        submission(4),
        [SetState(4, 1, State.PARKED, 0, None, "", "", 160.0)],
        [WriteEntry(JournalEntry(at=160.0, event=Event.ORDERED, message=4, facts={"action": "park"}))],
        [AddMessage(message(6), [Recipient(6, 1, "b@y.example", changed=100.0)], b"abc")],  # as it comes in
        submission(5),
        [SetState(5, 1, State.REMOVED, 0, None, "", "", 170.0)],
    ]))  # fmt: skip


def told(place: StorePlace) -> dict[int, tuple[Record, list[bytes]]]:
    with open_store(place).reader() as reader:
        records = [reader.record(row.message.id) for row in reader.queue()]
        for record in records:
            record.routes, record.servers = [], {}
            record.recipients = [  # what is due at once may be so since any time
                recipient._replace(next_try=None) if recipient.state is State.QUEUED else recipient
                for recipient in record.recipients
            ]
            for entry in record.journal:
                entry.server = 0
        return {record.message.id: (record, list(reader.content(record.message.id))) for record in records}


def test_what_waits_goes_there_and_back_with_its_story(folder: Path, store_url: str) -> None:
    here, there = StorePlace(folder / "queue", server=NAME), StorePlace(folder / "queue", store_url, server=NAME)
    fill(here)
    before = told(here)
    assert sorted(before) == [1, 2, 3, 4, 6]
    assert move_queue(here, there, 1000.0) == (5, 0)
    assert told(there) == before and told(here) == {}
    with open_store(here).reader() as reader:
        assert reader.totals() == {State.REMOVED: 1}, "what has ended stays"
    assert move_queue(there, here, 1001.0) == (5, 0)
    assert told(here) == before and told(there) == {}


def test_a_move_that_was_cut_off_is_carried_on_and_nothing_comes_twice(folder: Path, store_url: str) -> None:
    here, there = StorePlace(folder / "queue", server=NAME), StorePlace(folder / "queue", store_url, server=NAME)
    fill(here)
    before = told(here)
    open_store(there).upgrade()
    assert open_store(there).write([submission(1)]) == [None], "written there, and not forgotten here yet"
    assert move_queue(here, there, 1000.0) == (5, 1)
    assert told(there) == before and told(here) == {}


def test_a_queue_that_is_served_is_not_moved(folder: Path, store_url: str) -> None:
    here, there = StorePlace(folder / "queue", server=NAME), StorePlace(folder / "queue", store_url, server=NAME)
    fill(here)
    lock = FolderLock(here.folder, 0.0)
    with pytest.raises(FolderInUse):
        move_queue(here, there, 1000.0)
    lock.close()
