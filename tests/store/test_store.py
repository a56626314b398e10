"""The store: group commit, faults, migrations, reads beside a writer. Rows Q-01, Q-04, Q-06, Q-12."""

from __future__ import annotations

import errno
import json
import os
import select
import shutil
import socket
import sqlite3
import subprocess
import threading
from collections import deque
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from functools import partial
from math import inf
from pathlib import Path
from typing import NoReturn

import pytest

from copper_kite.errors import (
    Ambiguous,
    ContentUnreadable,
    FolderInUse,
    KiteError,
    NotFound,
    StoreError,
    StoreFailed,
    StoreFull,
)
from copper_kite.store import (
    AddContent,
    AddMessage,
    AddRecipient,
    Attempt,
    AttemptFacts,
    DropContent,
    FolderLock,
    IdMaker,
    JournalEntry,
    LaneStop,
    Message,
    MoveContent,
    Recipient,
    RecipientResult,
    RecordAttempt,
    Reroute,
    Selection,
    SetState,
    ShiftClock,
    StartLane,
    StopLane,
    Sweep,
    Transaction,
    WriteEntry,
    id_range,
    id_text,
    open_store,
    running_server,
)
from copper_kite.store.ids import EPOCH
from copper_kite.store.sqlite.handed import HANDED_OCTETS, Handed
from copper_kite.store.sqlite.process import Channel, serve, start_process
from copper_kite.store.sqlite.schema import connect_writer
from copper_kite.store.sqlite.segments import segment_sizes
from copper_kite.store.sqlite.writer import GroupWriter
from copper_kite.words import Event, State
from tests.support import whole


class Turns:
    """Stands in for the loop: what is deferred, or can be read, runs when the test says so."""

    def __init__(self) -> None:
        self.deferred: deque[Callable[[], None]] = deque()
        self.channel: Channel | None = None
        self.writer: GroupWriter | None = None
        self.lost = 0
        self.callback_failed: list[tuple[object, bool, str]] = []

    def turn(self) -> None:
        if self.deferred:
            self.deferred.popleft()()
        else:
            assert self.writer is not None and select.select([self.channel], [], [], 10)[0]
            self.writer.answered()

    def _note(self, change: object, written: bool, error: Exception) -> None:
        self.callback_failed.append((change, written, str(error)))

    def _lose(self) -> None:
        self.lost += 1

    def write_through(self, channel: Channel, handed: Handed) -> GroupWriter:
        self.channel = channel
        self.writer = GroupWriter(channel, handed, self.deferred.append, self._lose, self._note)
        return self.writer


@contextmanager
def thread_that_writes(folder: Path, connection: sqlite3.Connection) -> Iterator[tuple[Channel, Handed]]:
    """What the process does, in a thread: quicker to start, and the test may prepare its connection."""
    ours, theirs = socket.socketpair()
    handed = Handed()
    thread = threading.Thread(target=serve, args=(Channel(theirs), connection, folder, handed))
    thread.start()
    yield Channel(ours), handed
    ours.close()
    thread.join()
    theirs.close()


def message(id: int, **more: object) -> Message:
    facts: dict[str, object] = {
        "id": id, "arrived": 100.0, "expires": 900.0, "reverse_path": "a@x.example", "size": 3, "eight_bit": False,
        "utf8": False, "message_id": "<m@x>", "listener": "programs", "client": "127.0.0.1", "hello": "h", "user": "",
        "protocol": "ESMTP",
    }  # fmt: skip
    return Message(**(facts | more))  # type: ignore[arg-type]


def submission(id: int, *addresses: str, changed: float = 100.0) -> Transaction:
    return whole(
        message(id),
        [
            Recipient(id, number, address, changed=changed)
            for number, address in enumerate(addresses or ("b@y.example",), 1)
        ],
        b"abc",
    )


@pytest.fixture
def turns() -> Turns:
    return Turns()


@pytest.fixture
def writer(folder: Path, turns: Turns) -> Iterator[GroupWriter]:
    with thread_that_writes(folder, connect_writer(folder)) as ends:
        yield turns.write_through(*ends)
        assert turns.writer is not None
        turns.writer.close()


def write(writer: GroupWriter, turns: Turns, *changes: Transaction) -> list[KiteError | None]:
    """Write changes as one group; their errors."""
    errors: list[KiteError | None] = []
    for change in changes:
        writer.submit(change, errors.append)
    turns.turn()  # fill
    turns.turn()  # committed
    return errors


def test_nobody_is_answered_before_the_commit(folder: Path, writer: GroupWriter, turns: Turns) -> None:
    """Promise 1: what is answered can be read by another connection; what cannot be read was not answered."""
    answered: list[KiteError | None] = []
    for id in (1, 2, 3):
        writer.submit(submission(id), answered.append)
    turns.turn()
    assert answered == []
    turns.turn()
    assert answered == [None, None, None]
    with open_store(folder).reader() as reader:
        assert [row.message.id for row in reader.queue()] == [1, 2, 3]
        assert list(reader.content(2)) == [b"abc"]


def test_a_change_that_fails_takes_no_other_with_it(folder: Path, writer: GroupWriter, turns: Turns) -> None:
    assert write(writer, turns, submission(1)) == [None]
    errors = write(writer, turns, submission(2), submission(1, "again@y.example"), submission(3))
    assert [error is None for error in errors] == [True, False, True]
    with open_store(folder).reader() as reader:
        assert [row.recipient.address for row in reader.queue()] == ["b@y.example"] * 3


def stop(connector: str, domain: str, text: str, until: float = 90.0) -> LaneStop:
    return LaneStop(
        connector, domain, 5.0, until, 60.0, "connect", "path", "connection refused", None, "", text, "h:25"
    )


def test_what_waits_in_a_lane_that_does_not_move_is_shown_as_delayed(
    folder: Path, writer: GroupWriter, turns: Turns
) -> None:
    """Nothing is written of it; lists, groups, totals and stories go by the fact of the lane."""
    routed = {1: "beacon", 2: "beacon", 3: "direct", 4: "direct", 5: ""}
    for id, connector in routed.items():
        recipient = Recipient(id, 1, f"r@{'dead' if id == 3 else 'live'}.example", connector=connector)
        write(writer, turns, whole(message(id), [recipient], b"abc"))
    tried = SetState(2, 1, State.DELAYED, 1, 60.0, "beacon", "451 own", 5.0)
    stops = [
        stop("beacon", "", "beacon is down"),
        stop("direct", "dead.example", "dead is down"),
        stop("", "", "nobody", inf),
    ]
    write(writer, turns, [tried, *map(StopLane, stops)])
    with open_store(folder).reader() as reader:
        rows = {row.message.id: row.recipient for row in reader.queue()}
        assert {id: (one.state.value, one.reply, one.next_try) for id, one in rows.items()} == {
            1: ("delayed", "beacon is down", 90.0), 2: ("delayed", "451 own", 90.0),
            3: ("delayed", "dead is down", 90.0), 4: ("queued", "", rows[4].next_try), 5: ("delayed", "nobody", None),
        }  # fmt: skip
        assert reader.totals() == reader.shape().by_state == {State.DELAYED: 4, State.QUEUED: 1}
        assert {group.name: group.recipients for group in reader.groups("reason")} == {
            "beacon is down": 1, "451 own": 1, "dead is down": 1, "nobody": 1, "": 1,
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
    write(writer, turns, [StopLane(stop("direct", "", "allowance")), StartLane("beacon", ""), StartLane("", "")])
    with open_store(folder).reader() as reader:
        assert {row.message.id: row.recipient.reply for row in reader.queue()} == {
            1: "", 2: "451 own", 3: "allowance", 4: "allowance", 5: "",
        }  # fmt: skip


def test_what_our_own_faults_hold_is_counted(folder: Path, writer: GroupWriter, turns: Turns) -> None:
    write(writer, turns, *(submission(id) for id in range(1, 5)))
    ours, theirs = "our own fault 12AB34: ValueError in relay/lane.py:1", "450 4.7.1 not our own fault"
    held = [(1, State.DELAYED, ours), (2, State.PARKED, ours), (3, State.DELAYED, theirs), (4, State.FAILED, ours)]
    outcomes = [SetState(id, 1, state, 1, 60.0, "beacon", reply, 5.0) for id, state, reply in held]
    write(writer, turns, [*outcomes])
    with open_store(folder).reader() as reader:
        assert reader.held_by_faults() == 2


def test_another_connector_carries_what_waits(folder: Path, writer: GroupWriter, turns: Turns) -> None:
    write(writer, turns, submission(1), submission(2, "a@y", "b@y"))
    write(writer, turns, [Reroute("harbour", 1, 1), Reroute("harbour", 2, 2), Reroute("harbour", 9, 1)])
    with open_store(folder).reader() as reader:
        assert [row.recipient.connector for row in reader.queue()] == ["harbour", "", "harbour"]


def test_a_callback_that_breaks_stops_nobody_else(writer: GroupWriter, turns: Turns) -> None:
    def broken(error: KiteError | None) -> None:
        raise ValueError("a bug of somebody's")

    answered: list[KiteError | None] = []
    first = submission(1)
    writer.submit(first, broken)
    writer.submit(submission(2), answered.append)
    turns.turn()
    writer.submit(submission(3), answered.append)  # waits for the next transaction
    turns.turn()
    turns.turn()
    assert answered == [None, None]
    assert turns.callback_failed == [(first, True, "a bug of somebody's")], "so that it can be fetched"


def test_a_full_disk_is_told_apart_and_leaves_nothing(folder: Path, turns: Turns) -> None:
    """Q-04."""
    connection = connect_writer(folder)
    pages = connection.execute("PRAGMA page_count").fetchone()[0]
    connection.execute(f"PRAGMA max_page_count = {pages + 10}")
    crowd = [Recipient(7, number, f"{number}@{'y' * 200}.example") for number in range(9000)]
    big = whole(message(7), crowd, b"octets")
    with thread_that_writes(folder, connection) as ends:
        errors = write(turns.write_through(*ends), turns, submission(1), big, submission(8))
    assert errors[0] is None and isinstance(errors[1], StoreFull) and isinstance(errors[2], StoreFull)
    with open_store(folder).reader() as reader:
        assert [row.message.id for row in reader.queue()] == [1]
        assert list(reader.content(7)) == []


def test_content_that_finds_no_room_is_told_apart(
    folder: Path, writer: GroupWriter, turns: Turns, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Q-04: what has content is put off, what has none goes on; and afterwards all is as before."""
    fresh = [AddMessage(message(3), [Recipient(3, 1, "b@y.example")], b"abc")]
    started = [WriteEntry(JournalEntry(at=1.0, event=Event.STARTED))]
    errors: list[KiteError | None] = []
    with monkeypatch.context() as full:
        full.setattr("os.pwrite", lambda *words: raise_(OSError(errno.ENOSPC, "no space left")))
        for change in (submission(1), started, fresh):
            writer.submit(change, errors.append)
        turns.turn()
        turns.turn()
        assert [type(error) for error in errors] == [StoreFull, StoreFull, type(None)] and writer.waiting == 0
    assert write(writer, turns, fresh, submission(4)) == [None, None]
    with open_store(folder).reader() as reader:
        assert [row.message.id for row in reader.queue()] == [3, 4]
        assert list(reader.content(3)) == list(reader.content(4)) == [b"abc"]


def raise_(error: Exception) -> NoReturn:
    raise error


def test_a_sync_that_failed_is_never_taken_for_one_that_did_not(
    folder: Path, writer: GroupWriter, turns: Turns, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Q-04: whoever waited for it is told, and what is handed in next stands in another file."""
    write(writer, turns, submission(1))
    with monkeypatch.context() as failing:
        failing.setattr("os.fdatasync", lambda file: raise_(OSError(errno.EIO, "input/output error")))
        errors = write(writer, turns, submission(2), submission(3))
    assert [type(error) for error in errors] == [StoreFailed, StoreFailed]
    assert write(writer, turns, submission(4)) == [None]
    with open_store(folder).reader() as reader:
        assert [row.message.id for row in reader.queue()] == [1, 4]
        assert list(reader.content(1)) == list(reader.content(4)) == [b"abc"]
    assert [number for number, _ in segment_sizes(folder)] == [1, 2]


def test_content_is_stable_before_a_row_names_it(folder: Path, turns: Turns, monkeypatch: pytest.MonkeyPatch) -> None:
    """Q-01: written, on stable storage with its name and its folder's, then committed, then answered."""
    steps: list[str] = []
    connection = connect_writer(folder)
    connection.set_trace_callback(
        lambda sql: steps.append(sql.split()[0]) if sql.split()[0] in ("BEGIN", "COMMIT") else None
    )
    for name in ("pwrite", "fdatasync", "fsync"):
        real = getattr(os, name)
        monkeypatch.setattr(os, name, lambda *words, real=real, name=name: (steps.append(name), real(*words))[1])
    with thread_that_writes(folder, connection) as ends:
        writer = turns.write_through(*ends)
        for id in (1, 2):
            writer.submit(submission(id), lambda error: steps.append("answered"))
            turns.turn()
            turns.turn()
    once = ["pwrite", "pwrite", "fdatasync", "BEGIN", "COMMIT", "answered"]
    assert steps == ["pwrite", "fsync", "fsync", *once, *once], "a new segment has its mark first, a batch its label"


def test_files_of_content_go_when_nothing_in_them_is_wanted(folder: Path, writer: GroupWriter, turns: Turns) -> None:
    """As a whole, and never one that something waits in; what stands nearly alone in a large one is moved."""
    write(writer, turns, submission(1))
    write(writer, turns, [AddContent(2, 0, b"x" * 5_000_000)])
    write(
        writer,
        turns,
        [
            AddMessage(message(2), (), None),
            AddContent(2, 1, b"x" * 5_000_000),
            AddRecipient(Recipient(2, 1, "c@y.example")),
        ],
    )
    write(writer, turns, [Sweep()])
    write(writer, turns, submission(3))
    assert [number for number, _ in segment_sizes(folder)] == [1, 2]
    with open_store(folder).reader() as reader:
        assert reader.scattered(1000) == []
        write(
            writer,
            turns,
            [SetState(2, 1, State.RELAYED, 1, None, "c", "", 0.0)],
        )
        moved = reader.scattered(1000)
        assert moved == [(1, 0, b"abc")]
        write(writer, turns, [*(MoveContent(*one) for one in moved), Sweep()])
        write(writer, turns, [])  # for the process has gone on then
        assert [number for number, _ in segment_sizes(folder)] == [2]
        assert list(reader.content(1)) == list(reader.content(3)) == [b"abc"]
        write(writer, turns, [DropContent(1), DropContent(3), Sweep()])
        write(writer, turns, [])
        assert segment_sizes(folder) == []


def test_what_is_due_comes_with_its_content_and_no_file_stays_open(
    folder: Path, writer: GroupWriter, turns: Turns
) -> None:
    """As far as there is room for it; a file that stays open would take room on the disk though it was removed."""
    write(writer, turns, *(submission(id) for id in (1, 2, 3)))
    write(writer, turns, [AddContent(4, 0, b"x")])
    write(
        writer,
        turns,
        [
            AddMessage(message(4), (), None),
            AddContent(4, 1, b"yz"),
            AddRecipient(Recipient(4, 1, "b@y.example", next_try=100.0)),
            Sweep(),
        ],
    )
    write(writer, turns, [])
    with open_store(folder).reader() as reader:
        assert [due.content for due in reader.due((1, 2, 3, 4), 200.0, 8)] == [b"abc", b"abc", None, None]
        assert [due.content for due in reader.due((3, 4), 200.0, 8)] == [b"abc", None]
        assert b"".join(reader.content(4)) == b"xyz"
        open_files = [str(file.readlink()) for file in Path("/proc/self/fd").iterdir() if file.exists()]
        assert not any(str(folder / "content") in file for file in open_files)


def test_content_that_is_gone_is_told_and_nothing_else_is_read(folder: Path, writer: GroupWriter, turns: Turns) -> None:
    """Q-12."""
    write(writer, turns, submission(1), submission(2))
    with open_store(folder).reader() as reader:
        (file,) = (folder / "content").iterdir()
        os.truncate(file, file.stat().st_size - 1)
        assert list(reader.content(1)) == [b"abc"]
        with pytest.raises(ContentUnreadable) as error:
            list(reader.content(2))
        assert error.value.message == 2
        file.unlink()
        with pytest.raises(ContentUnreadable):
            list(reader.content(1))


@pytest.mark.parametrize("bit", range(3))
def test_content_that_the_disk_has_changed_is_told(folder: Path, writer: GroupWriter, turns: Turns, bit: int) -> None:
    """A single bit of a portion, or of its sum; the next message is read as ever."""
    write(writer, turns, submission(1), submission(2))
    (file,) = (folder / "content").iterdir()
    octets = bytearray(file.read_bytes())
    octets[octets.index(b"abc", 24) + 3 * bit] ^= 1 << bit
    file.write_bytes(octets)
    with open_store(folder).reader() as reader:
        with pytest.raises(ContentUnreadable, match="its sum is wrong"):
            list(reader.content(1))
        assert list(reader.content(2)) == [b"abc"]
        assert [due.content for due in reader.due((1, 2), 1e9, 1000)] == [None, b"abc"]


def test_nothing_is_answered_when_the_files_it_went_to_were_deleted(folder: Path, turns: Turns) -> None:
    """The database, its log, the content: deleted or replaced, and nobody is told that something was kept."""
    for gone in ("queue.sqlite", "queue.sqlite-wal", "content", "."):
        within = folder / f"of {gone}"
        writer = turns.write_through(*start_process(within))
        assert write(writer, turns, submission(1)) == [None]
        shutil.rmtree(within / gone) if gone in ("content", ".") else (within / gone).unlink()
        (error,) = write(writer, turns, submission(2))
        assert isinstance(error, StoreFailed), gone
        (error,) = write(writer, turns, submission(3))
        assert isinstance(error, StoreFailed) and turns.lost, gone
        turns.lost = 0
        writer.close()


def test_a_folder_with_content_and_no_database_is_refused(folder: Path) -> None:
    (folder / "content").mkdir()
    (folder / "content" / "00000001").write_bytes(b"x")
    with pytest.raises(StoreError, match=r"queue\.sqlite is missing"):
        start_process(folder)
    assert not (folder / "queue.sqlite").exists()


def test_what_waits_at_the_end_is_still_written(folder: Path, turns: Turns) -> None:
    writer = turns.write_through(*start_process(folder))
    answered: list[KiteError | None] = []
    writer.submit(submission(1), answered.append)
    turns.turn()
    writer.submit(submission(2), answered.append)
    writer.close()
    assert answered == [None, None] and not turns.lost
    with open_store(folder).reader() as reader:
        assert len(reader.queue()) == 2
    assert [number for number, _ in segment_sizes(folder)] == [1]
    open_store(folder).write([[DropContent(1), DropContent(2)]])
    turns.write_through(*start_process(folder)).close()
    assert segment_sizes(folder) == [], "the last thing that it does is to tidy up"


def test_a_process_that_is_gone_answers_for_nothing(folder: Path, turns: Turns) -> None:
    """Promise 1: what is not known to be on the disk is not said to be; and the server is told that it must stop."""
    ours, theirs = socket.socketpair()
    writer = turns.write_through(Channel(ours), Handed())
    answered: list[KiteError | None] = []
    writer.submit(submission(1), answered.append)
    turns.turn()
    writer.submit(submission(2), answered.append)
    theirs.close()
    turns.turn()
    turns.turn()
    assert [type(error) for error in answered] == [StoreFailed, StoreFailed] and turns.lost == 1
    writer.close()


def test_a_batch_is_bounded_in_octets(folder: Path, writer: GroupWriter, turns: Turns) -> None:
    """So that many large messages do not keep a small one waiting for long."""
    answered: list[KiteError | None] = []
    portion = HANDED_OCTETS // 10
    for id in range(15):
        writer.submit([AddContent(id, 0, b"x" * portion), AddContent(id, 1, b"y")], answered.append)
    turns.turn()
    turns.turn()
    assert answered == [None] * 9
    turns.turn()
    assert answered == [None] * 15
    with open_store(folder).reader() as reader:
        assert {sum(map(len, reader.content(id))) for id in range(15)} == {portion + 1}


def test_what_can_never_be_written_keeps_nobody_waiting(writer: GroupWriter, turns: Turns) -> None:
    errors: list[KiteError | None] = []
    for change in ([AddContent(1, 0, b"x" * (HANDED_OCTETS + 1))], submission(2)):
        writer.submit(change, errors.append)
    while len(errors) < 2:
        turns.turn()
    assert [type(error) for error in errors] == [StoreFailed, type(None)]


@pytest.mark.parametrize(
    "facts",
    [
        {"text": "a lone \ud800 surrogate", "\udfff": [1, ("\udc00",)]},
        {"place": Path("/x"), "set": {1}},  # what no frame carries
        {"large": 2**80},
    ],
)
def test_text_that_cannot_be_stored_is_made_storable(
    folder: Path, writer: GroupWriter, turns: Turns, facts: dict[str, object]
) -> None:
    innocent, odd = submission(1), message(2, subject="a \ud83d b", message_id="<\udcff@x>")
    entry = WriteEntry(JournalEntry(at=1.0, event=Event.ALARM, facts=facts, message=2))
    guilty = [*whole(odd, [Recipient(2, 1, "b@y.example")], b"abc"), entry]
    assert write(writer, turns, innocent, guilty, submission(3)) == [None] * 3
    with open_store(folder).reader() as reader:
        assert [row.message.id for row in reader.queue()] == [1, 2, 3]
        assert reader.recipients(2)[0].subject == "a \ufffd b"


def test_what_cannot_be_made_rows_of_fails_alone(writer: GroupWriter, turns: Turns) -> None:
    broken = [AddMessage(None, (), None)]  # type: ignore[list-item]
    for order in ((broken, submission(1)), (submission(2), broken, submission(3))):
        answered: dict[int, KiteError | None] = {}
        for number, change in enumerate(order):
            writer.submit(change, partial(answered.__setitem__, number))
        while len(answered) < len(order):
            turns.turn()
        assert [type(answered[n]) for n in range(len(order))] == [
            StoreFailed if change is broken else type(None) for change in order
        ]
    assert writer.waiting == 0


def test_a_number_that_has_no_room_fails_its_change_alone(writer: GroupWriter, turns: Turns) -> None:
    wrong = whole(message(4, arrived=float("nan")), [Recipient(4, 1, "b@y.example")], b"abc")
    errors = write(writer, turns, submission(3), wrong, submission(5))
    assert [type(error) for error in errors] == [type(None), StoreFailed, type(None)]


def test_what_was_computed_before_the_clock_was_set_is_shifted_and_nothing_else(
    folder: Path, writer: GroupWriter, turns: Turns
) -> None:
    """In the order of handing in, also where it would go into one transaction; and not what another clock had noted."""
    answered: list[KiteError | None] = []

    def delayed(id: int, changed: float) -> Transaction:
        return [SetState(id, 1, State.DELAYED, 1, 500.0, "beacon", "r", changed)]

    writer.submit([AddMessage(message(1), [Recipient(1, 1, "b@y.example")], b"abc", ("a", 1, 1))], answered.append)
    writer.submit(submission(2), answered.append)
    writer.submit(submission(3, changed=100.0), answered.append)
    writer.submit(delayed(2, 110.0), answered.append)
    writer.submit(delayed(3, 9999.0), answered.append)
    writer.submit([ShiftClock(1000.0, 200.0)], answered.append)
    writer.submit(submission(4), answered.append)
    writer.submit(delayed(4, 120.0), answered.append)
    while len(answered) < 8:
        turns.turn()
    assert answered == [None] * 8
    # Two steps at once: each is written by itself, in order.
    for change in ([ShiftClock(10.0, 300.0)], [ShiftClock(-10.0, 310.0)]):
        writer.submit(change, answered.append)
    assert writer.waiting == 2
    while writer.waiting:
        turns.turn()
    assert answered == [None] * 10
    with open_store(folder).reader() as reader:
        rows = {row.message.id: (row.message.expires, row.recipient.next_try) for row in reader.queue()}
    assert rows == {1: (1900.0, rows[1][1]), 2: (1900.0, 1500.0), 3: (1900.0, 500.0), 4: (900.0, 500.0)}


def outcome(number: int, state: State, next_try: float | None = None) -> SetState:
    return SetState(1, number, state, attempts=1, next_try=next_try, connector="beacon", reply="r", at=0.0)


def test_content_stays_until_the_last_recipient_has_ended(folder: Path, writer: GroupWriter, turns: Turns) -> None:
    write(writer, turns, submission(1, "b@y", "c@y"))
    write(writer, turns, [outcome(1, State.RELAYED), outcome(2, State.DELAYED, 500.0)])
    with open_store(folder).reader() as reader:
        assert list(reader.content(1)) == [b"abc"]
        assert [due.recipients[0].address for due in reader.due([1], 600.0)] == ["c@y"]
        assert reader.due([1], 499.0) == [] and reader.next_due(499.0) == 500.0
    write(writer, turns, [outcome(2, State.FAILED)])
    with open_store(folder).reader() as reader:
        assert list(reader.content(1)) == [b"abc"], "what failed can be looked at, and tried again"
        assert reader.queue() == [] and reader.totals() == {State.RELAYED: 1, State.FAILED: 1}
        first = (-1.0, 0, 0)
        assert reader.failed_between(first, 1e12, 10) == [(0.0, 1, 2)]
        assert reader.failed_between((0.0, 1, 2), 1e12, 10) == [] and reader.has_ended(1, 0.0)
    write(writer, turns, [outcome(2, State.REMOVED)])
    with open_store(folder).reader() as reader:
        assert list(reader.content(1)) == [] and reader.failed_between(first, 1e12, 10) == []


def test_what_is_delayed_comes_in_the_order_of_its_time(folder: Path, writer: GroupWriter, turns: Turns) -> None:
    write(writer, turns, *(submission(id) for id in range(1, 6)))
    delayed = [SetState(id, 1, State.DELAYED, 1, 1000.0 - id, "beacon", "r", 0.0) for id in range(1, 6)]
    write(writer, turns, [*delayed])
    with open_store(folder).reader() as reader:
        first = reader.delayed((-1.0, 0, 0), 998.0, 3)
        assert [row.message for row in first] == [5, 4, 3]
        last = (first[-1].next_try, first[-1].message, first[-1].number)
        assert [row.message for row in reader.delayed(last, 998.0, 3)] == [2]


def test_what_is_queued_is_looked_for_where_the_last_look_ended(
    folder: Path, writer: GroupWriter, turns: Turns
) -> None:
    """So the next look need not pass over all that is in hand, or waits for a time; a message is found whole."""
    write(writer, turns, *(submission(id, "b@y", "c@y") for id in range(1, 6)))
    with open_store(folder).reader() as reader:
        assert [(row.message, row.number) for row in reader.queued(1, 4, 3)] == [(2, 1), (2, 2), (3, 1), (3, 2)]
        assert [row.message for row in reader.queued(3, 4, 3)] == [4, 4]
        assert reader.queued(4, 4, 3) == [] and reader.queued(5, 99, 3) == []


def test_stray_content_is_found(folder: Path, writer: GroupWriter, turns: Turns) -> None:
    write(writer, turns, submission(1), [AddContent(9, 0, b"half")])
    with open_store(folder).reader() as reader:
        assert reader.stray_content() == [9]
    write(writer, turns, [DropContent(9)])
    with open_store(folder).reader() as reader:
        assert reader.stray_content() == []


def attempt(id: int, message: int, relayed: int, text: str, stage: str = "accept") -> Attempt:
    return Attempt(
        id=id, message=message, at=float(id), seconds=0.1, connector="beacon", next_hop="h:25", address="", stage=stage,
        side="", cause="", code=250, enhanced="", text=text, facts=AttemptFacts([RecipientResult("b@y", "relayed", "accept", text)] if relayed else []),
        dialogue=None,
    )  # fmt: skip


def test_connectors_remember_their_last_good_and_bad(folder: Path, writer: GroupWriter, turns: Turns) -> None:
    write(writer, turns, [RecordAttempt(attempt(1, 1, 1, "ok")), RecordAttempt(attempt(2, 1, 0, "refused", "connect"))])
    write(
        writer,
        turns,
        [RecordAttempt(attempt(3, 1, 1, "ok")), RecordAttempt(attempt(4, 1, 0, "no such mailbox", "recipient"))],
    )
    with open_store(folder).reader() as reader:
        (state,) = reader.connectors()
        assert (state.last_good, state.last_bad, state.last_bad_text) == (3.0, 2.0, "refused")
        assert reader.last_id() == 4


def test_ids(folder: Path, writer: GroupWriter, turns: Turns) -> None:
    """Q-10, Q-12: rising, also when the clock goes back; found by their beginning."""
    maker = IdMaker()
    first = maker.next(EPOCH + 10.0)
    assert maker.next(EPOCH + 10.0) == first + 1
    assert maker.next(EPOCH - 5e6) == first + 2
    assert IdMaker(last=first + 9).next(EPOCH) == first + 10
    assert len(id_text(first)) == 10 and id_range(id_text(first)) == (first, first)
    assert id_range(id_text(first).lower().replace("0", "o")) == (first, first)
    assert id_range("") is None and id_range("U") is None and id_range("0" * 11) is None
    write(writer, turns, submission(first), submission(first + 1))
    with open_store(folder).reader() as reader:
        assert reader.resolve(id_text(first)) == first
        with pytest.raises(Ambiguous) as ambiguous:
            reader.resolve(id_text(first)[:6])
        assert len(ambiguous.value.ids) == 2
        with pytest.raises(NotFound):
            reader.resolve("ZZ")


def test_a_folder_that_cannot_be_used(folder: Path) -> None:
    (folder / "file").write_text("")
    with pytest.raises(StoreError):
        connect_writer(folder / "file" / "queue")
    with pytest.raises(StoreError) as nothing:
        open_store(folder).reader()
    assert "kite serve" in str(nothing.value)
    (folder / "queue.sqlite").write_bytes(b"not a database" * 100)
    with pytest.raises(StoreError):
        connect_writer(folder)


def test_one_server_a_folder(folder: Path) -> None:
    """Q-12."""
    assert running_server(folder) is None
    lock = FolderLock(folder, 123.0)
    with pytest.raises(FolderInUse) as error:
        FolderLock(folder, 124.0)
    running = running_server(folder)
    assert running is not None and running.since == 123.0 and error.value.pid == running.pid
    lock.close()
    assert running_server(folder) is None
    FolderLock(folder, 125.0).close()


def test_a_killed_server_is_none_while_its_writer_finishes(folder: Path) -> None:
    holder = FolderLock(folder, 123.0)
    ended = subprocess.Popen(["true"])
    ended.wait()
    (folder / "server.lock").write_text(json.dumps({"pid": ended.pid, "since": 123.0}))
    assert running_server(folder) is None
    holder.close()
