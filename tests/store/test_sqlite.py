"""What SQLite and the files beside it do: group commit, faults of the disk, what was deleted. Rows Q-01, Q-04, Q-12."""

from __future__ import annotations

import errno
import json
import os
import shutil
import socket
import sqlite3
import subprocess
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from functools import partial
from pathlib import Path
from typing import NoReturn

import pytest

from copper_kite.errors import (
    ContentUnreadable,
    FolderInUse,
    KiteError,
    StoreError,
    StoreFailed,
    StoreFull,
)
from copper_kite.store import (
    AddContent,
    AddMessage,
    AddRecipient,
    DropContent,
    FolderLock,
    JournalEntry,
    MoveContent,
    Recipient,
    SetState,
    Sweep,
    WriteEntry,
    open_store,
    running_server,
)
from copper_kite.store.shared.channel import Channel
from copper_kite.store.shared.shared_buffer import HANDED_OCTETS, SharedBuffer
from copper_kite.store.shared.writer import GroupWriter
from copper_kite.store.sqlite.process import serve, start_process
from copper_kite.store.sqlite.schema import connect_writer
from copper_kite.store.sqlite.segments import segment_sizes
from copper_kite.words import Event, State
from tests.store.turns import Turns, message, submission, write_together
from tests.support import whole


@contextmanager
def thread_that_writes(folder: Path, connection: sqlite3.Connection) -> Iterator[tuple[Channel, SharedBuffer]]:
    """What the process does, in a thread: quicker to start, and the test may prepare its connection."""
    ours, theirs = socket.socketpair()
    handed = SharedBuffer()
    thread = threading.Thread(target=serve, args=(Channel(theirs), connection, folder, handed))
    thread.start()
    yield Channel(ours), handed
    ours.close()
    thread.join()
    theirs.close()


def write_through(turns: Turns, channel: Channel, handed: SharedBuffer) -> GroupWriter:
    writer = GroupWriter(channel, handed, turns.deferred.append, turns.lose, turns.note)
    turns.take(writer)
    return writer


@pytest.fixture
def turns() -> Turns:
    return Turns()


@pytest.fixture
def writer(folder: Path, turns: Turns) -> Iterator[GroupWriter]:
    with thread_that_writes(folder, connect_writer(folder)) as ends:
        yield write_through(turns, *ends)
        assert turns.writer is not None
        turns.writer.close()


def test_a_full_disk_is_told_apart_and_leaves_nothing(folder: Path, turns: Turns) -> None:
    """Q-04."""
    connection = connect_writer(folder)
    pages = connection.execute("PRAGMA page_count").fetchone()[0]
    connection.execute(f"PRAGMA max_page_count = {pages + 10}")
    crowd = [Recipient(7, number, f"{number}@{'y' * 200}.example") for number in range(9000)]
    big = whole(message(7), crowd, b"octets")
    with thread_that_writes(folder, connection) as ends:
        errors = write_together(write_through(turns, *ends), turns, submission(1), big, submission(8))
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
    assert write_together(writer, turns, fresh, submission(4)) == [None, None]
    with open_store(folder).reader() as reader:
        assert [row.message.id for row in reader.queue()] == [3, 4]
        assert list(reader.content(3)) == list(reader.content(4)) == [b"abc"]


def raise_(error: Exception) -> NoReturn:
    raise error


def test_a_sync_that_failed_is_never_taken_for_one_that_did_not(
    folder: Path, writer: GroupWriter, turns: Turns, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Q-04: whoever waited for it is told, and what is submitted next stands in another file."""
    write_together(writer, turns, submission(1))
    with monkeypatch.context() as failing:
        failing.setattr("os.fdatasync", lambda file: raise_(OSError(errno.EIO, "input/output error")))
        errors = write_together(writer, turns, submission(2), submission(3))
    assert [type(error) for error in errors] == [StoreFailed, StoreFailed]
    assert write_together(writer, turns, submission(4)) == [None]
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
        writer = write_through(turns, *ends)
        for id in (1, 2):
            writer.submit(submission(id), lambda error: steps.append("answered"))
            turns.turn()
            turns.turn()
    once = ["pwrite", "pwrite", "fdatasync", "BEGIN", "COMMIT", "answered"]
    assert steps == ["pwrite", "fsync", "fsync", *once, *once], "a new segment has its mark first, a batch its label"


def test_files_of_content_go_when_nothing_in_them_is_wanted(folder: Path, writer: GroupWriter, turns: Turns) -> None:
    """As a whole, and never one that something waits in; what stands nearly alone in a large one is moved."""
    write_together(writer, turns, submission(1))
    write_together(writer, turns, [AddContent(2, 0, b"x" * 5_000_000)])
    write_together(
        writer,
        turns,
        [
            AddMessage(message(2), (), None),
            AddContent(2, 1, b"x" * 5_000_000),
            AddRecipient(Recipient(2, 1, "c@y.example")),
        ],
    )
    write_together(writer, turns, [Sweep()])
    write_together(writer, turns, submission(3))
    assert [number for number, _ in segment_sizes(folder)] == [1, 2]
    with open_store(folder).reader() as reader:
        assert reader.scattered(1000) == []
        write_together(
            writer,
            turns,
            [SetState(2, 1, State.RELAYED, 1, None, "c", "", 0.0)],
        )
        moved = reader.scattered(1000)
        assert moved == [(1, 0, b"abc")]
        write_together(writer, turns, [*(MoveContent(*item) for item in moved), Sweep()])
        write_together(writer, turns, [])  # for the process has gone on then
        assert [number for number, _ in segment_sizes(folder)] == [2]
        assert list(reader.content(1)) == list(reader.content(3)) == [b"abc"]
        write_together(writer, turns, [DropContent(1), DropContent(3), Sweep()])
        write_together(writer, turns, [])
        assert segment_sizes(folder) == []


def test_what_is_due_comes_with_its_content_and_no_file_stays_open(
    folder: Path, writer: GroupWriter, turns: Turns
) -> None:
    """As far as there is room for it; a file that stays open would take room on the disk though it was removed."""
    write_together(writer, turns, *(submission(id) for id in (1, 2, 3)))
    write_together(writer, turns, [AddContent(4, 0, b"x")])
    write_together(
        writer,
        turns,
        [
            AddMessage(message(4), (), None),
            AddContent(4, 1, b"yz"),
            AddRecipient(Recipient(4, 1, "b@y.example", next_try=100.0)),
            Sweep(),
        ],
    )
    write_together(writer, turns, [])
    with open_store(folder).reader() as reader:
        assert [due.content for due in reader.due((1, 2, 3, 4), 200.0, 8)] == [b"abc", b"abc", None, None]
        assert [due.content for due in reader.due((3, 4), 200.0, 8)] == [b"abc", None]
        assert b"".join(reader.content(4)) == b"xyz"
        open_files = [str(file.readlink()) for file in Path("/proc/self/fd").iterdir() if file.exists()]
        assert not any(str(folder / "content") in file for file in open_files)


def test_content_that_is_gone_is_told_and_nothing_else_is_read(folder: Path, writer: GroupWriter, turns: Turns) -> None:
    """Q-12."""
    write_together(writer, turns, submission(1), submission(2))
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
    write_together(writer, turns, submission(1), submission(2))
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
        writer = turns.start(open_store(within))
        assert write_together(writer, turns, submission(1)) == [None]
        shutil.rmtree(within / gone) if gone in ("content", ".") else (within / gone).unlink()
        (error,) = write_together(writer, turns, submission(2))
        assert isinstance(error, StoreFailed), gone
        (error,) = write_together(writer, turns, submission(3))
        assert isinstance(error, StoreFailed) and turns.lost, gone
        turns.lost = 0
        writer.close()


def test_a_folder_with_content_and_no_database_is_refused(folder: Path) -> None:
    (folder / "content").mkdir()
    (folder / "content" / "00000001").write_bytes(b"x")
    with pytest.raises(StoreError, match=r"queue\.sqlite is missing"):
        start_process(folder)
    assert not (folder / "queue.sqlite").exists()


def test_a_process_that_is_gone_answers_for_nothing(folder: Path, turns: Turns) -> None:
    """Promise 1: what is not known to be on the disk is not said to be; and the server is told that it must stop."""
    ours, theirs = socket.socketpair()
    writer = write_through(turns, Channel(ours), SharedBuffer())
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


def test_the_last_thing_that_the_process_does_is_to_tidy_up(folder: Path, turns: Turns) -> None:
    store = open_store(folder)
    store.upgrade()
    store.write([submission(1), submission(2)])
    store.write([[DropContent(1), DropContent(2)]])
    assert [number for number, _ in segment_sizes(folder)] == [1]
    turns.start(store).close()
    assert segment_sizes(folder) == []
