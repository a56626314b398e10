"""A crash at each step of a commit: what is there afterwards is all of a change, or nothing of it."""

from __future__ import annotations

import sqlite3
from contextlib import suppress
from pathlib import Path
from types import SimpleNamespace
from typing import Any

from copper_kite.store import (
    AddContent,
    AddMessage,
    AddRecipient,
    Attempt,
    AttemptFacts,
    DropContent,
    JournalEntry,
    Message,
    Recipient,
    RecipientResult,
    RecordAttempt,
    RecordRelayed,
    SessionFacts,
    SetState,
    Transaction,
    WriteEntry,
    open_store,
)
from copper_kite.store.sqlite.commit import commit
from copper_kite.store.sqlite.schema import DATABASE, connect_writer
from copper_kite.words import Event, State
from tests.store.batches import batch_of
from tests.support import whole as added


class Crash(BaseException):
    """The process is gone."""


class Doomed:
    """A connection whose process dies just before its step number `fatal`."""

    def __init__(self, connection: sqlite3.Connection, fatal: int) -> None:
        self._connection = connection
        self._left = fatal

    def _step(self) -> None:
        self._left -= 1
        if not self._left:
            raise Crash

    def execute(self, *words: Any) -> sqlite3.Cursor:
        self._step()
        return self._connection.execute(*words)

    def executemany(self, sql: str, rows: Any) -> SimpleNamespace:
        changed = 0
        for row in rows:
            self._step()
            changed += self._connection.execute(sql, row).rowcount
        return SimpleNamespace(rowcount=changed)

    @property
    def in_transaction(self) -> bool:
        return self._connection.in_transaction


TABLES = ("compact", "message", "recipient", "content", "journal", "taken", "tally", "attempt", "connector")


def message(id: int, reverse_path: str = "a@x.example") -> Message:
    return Message(id, 0.0, 9.0, reverse_path, 4, False, False, "<m>", "l", "unix", "h", "", "ESMTP")


def swept(folder: Path, before: Transaction, change: Transaction) -> list[dict[str, list[tuple[Any, ...]]]]:
    """What the tables hold after a crash before each step in turn, and at last without one; content by its size."""
    batch = batch_of(change, lambda octets: 0)
    result, fatal, survived = [], 0, False
    while not survived:
        fatal += 1
        here = folder / str(fatal)
        connection = connect_writer(here)
        assert commit(connection, batch_of(before, lambda octets: 0)) == [None]
        with suppress(Crash):
            survived = commit(Doomed(connection, fatal), batch) == [None]  # type: ignore[arg-type]
        connection.close()
        with sqlite3.connect(here / DATABASE) as after:
            result.append({table: after.execute(f"SELECT * FROM {table}").fetchall() for table in TABLES})
    return result


def test_a_message_is_whole_or_absent(folder: Path) -> None:
    """Q-02: never a part of its content or of its recipients."""
    recipients = [Recipient(5, number, f"r{number}@y.example", next_try=0.0) for number in range(1, 4)]
    content = [(5, portion, b"octets") for portion in range(3)]
    *crashed, whole = swept(
        folder,
        [],
        [AddMessage(message(5), (), None), *(AddContent(*item) for item in content), *map(AddRecipient, recipients)],
    )
    assert len(crashed) >= 8
    assert [len(whole[table]) for table in ("message", "recipient", "content")] == [1, 3, 3]
    assert all(not any(tables.values()) for tables in crashed)


def test_a_submission_by_the_short_way_is_whole_or_absent(folder: Path) -> None:
    """Q-02, and the short way leaves what the long one does."""
    recipients = [
        Recipient(5, number, f"r{number}@y.example", next_try=0.0, esmtp_parameters="NOTIFY=NEVER") for number in (1, 2)
    ]
    taken = ("127.0.0.1", 3, 2)
    *crashed, short = swept(folder / "short", [], [AddMessage(message(5), recipients, b"octe", taken)])
    portion = [AddMessage(message(5), recipients, None, taken), AddContent(5, 0, b"octe")]
    *_, long = swept(folder / "long", [], portion)
    assert short == long and short["taken"] == [taken] and len(crashed) >= 6
    assert all(not any(tables.values()) for tables in crashed)


def test_what_was_relayed_is_recorded_the_same_by_the_short_way(folder: Path) -> None:
    """Q-02: all of it or nothing, and what the long way leaves."""
    recipients = [Recipient(5, number, f"r{number}@y.example", next_try=0.0) for number in (1, 2)]
    before = added(message(5), recipients, b"octets")
    session = SessionFacts(tls="TLSv1.3")
    said = '250 2.0.0 kept as "x"'
    facts = AttemptFacts(
        [RecipientResult(recipient.address, "relayed", "accept", said) for recipient in recipients], session
    )
    attempt = Attempt(9, 5, 1.0, 0.1, "c", "h:25", "192.0.2.1", "accept", "", "", 250, "2.0.0", "kept", facts, None)
    outcomes = [
        SetState(5, recipient.number, State.RELAYED, 1, None, "c", said, 2.0, "h:25") for recipient in recipients
    ]
    results = [(recipient.number, 1, recipient.address, said) for recipient in recipients]
    for whole in (True, False):
        short = RecordRelayed(
            9, 5, 1.0, 0.1, "c", "h:25", "192.0.2.1", 250, "2.0.0", "kept", results,
            session, 2.0, whole,
        )  # fmt: skip
        long = [*outcomes, RecordAttempt(attempt)]
        *crashed, by_short_way = swept(folder / f"short {whole}", before, [short])
        *_, by_long_way = swept(folder / f"long {whole}", before, long)
        assert by_short_way == by_long_way and not by_short_way["content"]
        assert len(by_short_way["attempt"]) == 1 and len(crashed) >= 5
        assert all(len(tables["content"]) == 1 and not tables["attempt"] for tables in crashed)


def test_a_compact_message_is_expanded_as_a_whole(folder: Path) -> None:
    """Q-02: it is in one row, or in those of its own, with what has happened to it."""
    only = Recipient(5, 1, "r@y.example", next_try=0.0)
    before = [AddMessage(message(5), [only], b"octe")]
    *none, compact = swept(folder / "came", [], before)
    assert len(compact["compact"]) == 1 and not compact["message"] and not any(tables["compact"] for tables in none)
    relayed = RecordRelayed(
        9,
        5,
        1.0,
        0.1,
        "c",
        "h:25",
        "192.0.2.1",
        250,
        "2.0.0",
        "kept",
        [(1, 1, only.address, "250")],
        SessionFacts(),
        2.0,
        True,
    )
    delayed = [SetState(5, 1, State.DELAYED, 1, 9.0, "c", "451", 1.0)]
    for name, change, content in (("relayed", [relayed], 0), ("delayed", delayed, 1)):
        *crashed, whole = swept(folder / name, before, change)
        assert len(crashed) >= 5 and all(tables == crashed[0] for tables in crashed)
        assert crashed[0]["compact"] and not crashed[0]["recipient"]
        assert [row[3] for row in whole["recipient"]] == [name] and len(whole["content"]) == content
        assert not whole["compact"] and len(whole["message"]) == 1


def test_a_failure_and_its_notice_are_one(folder: Path) -> None:
    """Q-07: no recipient has failed for good before the notice of it is in the queue."""
    before = added(message(5), [Recipient(5, 1, "r@y.example", next_try=0.0)], b"octets")
    failed = [
        *added(message(6, ""), [Recipient(6, 1, "a@x.example", next_try=0.0)], b"a notice"),
        SetState(5, 1, State.FAILED, 1, None, "c", "550 no", 1.0),
        WriteEntry(JournalEntry(at=1.0, event=Event.NOTICE, message=5)),
    ]
    *crashed, whole = swept(folder, before, failed)
    assert len(crashed) >= 7
    assert [row[0] for row in whole["message"]] == [5, 6] and [row[3] for row in whole["content"]] == [6, 8]
    assert all([row[0] for row in tables["message"]] == [5] for tables in crashed)
    assert all([row[3] for row in tables["content"]] == [len("octets")] for tables in crashed)
    assert all(tables["recipient"][0][3] == "queued" for tables in crashed)


def test_the_portions_of_a_message_that_never_became_one_are_found(folder: Path) -> None:
    """Q-02, Q-04: what a crash leaves of a large message is known at the next start, without reading all there is."""
    small = added(message(3), [Recipient(3, 1, "r@y.example", next_try=0.0)], b"small")
    for change in (
        small,
        [AddContent(5, 0, b"a")],
        [AddContent(5, 1, b"b")],
        [AddContent(7, 0, b"c")],
    ):
        assert open_store(folder).write([change]) == [None]
    with open_store(folder).reader() as reader:
        assert reader.stray_content() == [5, 7]
        whole = [
            AddMessage(message(7), (), None),
            AddContent(7, 1, b"d"),
            AddRecipient(Recipient(7, 1, "r@y.example", next_try=0.0)),
        ]
        assert open_store(folder).write([whole, [DropContent(5)]]) == [None, None]
        assert reader.stray_content() == []
        assert list(reader.content(7)) == [b"c", b"d"] and list(reader.content(5)) == []
