"""A message to one recipient is kept in one row until something happens to it: nobody who looks can tell."""

from __future__ import annotations

import sqlite3
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

import pytest

from copper_kite.store import (
    AddMessage,
    AddRecipient,
    Attempt,
    AttemptFacts,
    ExtendLifetime,
    JournalEntry,
    Message,
    MoveContent,
    Reader,
    Recipient,
    RecipientResult,
    RecordAttempt,
    RecordRelayed,
    Selection,
    SendBy,
    SessionFacts,
    SetState,
    Transaction,
    WriteEntry,
    id_text,
    open_store,
)
from copper_kite.store.ids import id_at
from copper_kite.store.shared.batch import Batch
from copper_kite.store.shared.encoding import encode
from copper_kite.store.shared.shared_buffer import summed
from copper_kite.store.sqlite import reads
from copper_kite.store.sqlite.commit import commit, holds_content, used_segments
from copper_kite.store.sqlite.schema import connect_writer
from copper_kite.store.sqlite.segments import Segments
from copper_kite.words import Event, State
from tests.store.batches import batch_of
from tests.support import whole as added

BEGUN = 1_800_000_000.0
IDS = [id_at(BEGUN + second) for second in (0, 10, 20)]
FIRST, SECOND, THIRD = IDS
SELECTIONS = (
    Selection(),
    Selection(states=tuple(State)),
    Selection(states=(State.DELAYED,)),
    Selection(ids=[SECOND, THIRD]),
    Selection(to="*.example"),
    Selection(to="r1@y.example"),
    Selection(sender="a1@x.example"),
    Selection(anyone="a2@x.example"),
    Selection(anyone="r2@y.example"),
    Selection(text="report 1"),
    Selection(text="r1@y"),
    Selection(subject="1"),
    Selection(who="192.0.2.1"),
    Selection(message_id="<1@x.example>"),
    Selection(older=BEGUN + 10),
    Selection(since=BEGUN + 10),
    Selection(larger=102),
)


def message(number: int) -> Message:
    arrived = BEGUN + 10 * number
    return Message(
        IDS[number], arrived, arrived + 900, f"a{number}@x.example", 100 + number, True, False, f"<{number}@x.example>",
        "programs", f"192.0.2.{number}", "hello", "", "ESMTPS", "RET=HDRS", f"report {number}",
    )  # fmt: skip


def recipient(number: int) -> Recipient:
    arrived = message(number).arrived
    return Recipient(
        IDS[number], 1, f"r{number}@y.example", next_try=arrived, changed=arrived, esmtp_parameters="NOTIFY=FAILURE"
    )


def fresh(number: int) -> AddMessage:
    return AddMessage(message(number), [recipient(number)], octets(number))


def octets(number: int) -> bytes:
    return b"%d" % number * message(number).size


def write(folder: Path, *changes: Transaction) -> None:
    """Each in a transaction of its own."""
    connection, segments = connect_writer(folder), Segments(folder)
    for change in changes:
        content = bytearray()

        def put(portion: bytes, content: bytearray = content) -> int:
            start = len(content)
            content.extend(portion + summed(portion))
            return start

        batch = batch_of(change, put)
        at = segments.append(content) if content else (0, 0)
        assert commit(connection, batch._replace(at=at)) == [None]
    segments.leave()
    connection.close()


def looks(folder: Path) -> dict[str, Any]:
    """All that can be seen of the three."""
    result: dict[str, Any] = {}
    with open_store(folder).reader() as reader:
        for selection in SELECTIONS:
            for newest in (False, True):
                result[f"{selection} {newest}"] = reader.select(selection, newest=newest)
                result[f"{selection} {newest}, two"] = reader.select(selection, 2, newest=newest)
        for by in ("state", "connector", "next hop", "reason", "domain"):
            result[by] = reader.groups(by)
        result["waiting"] = [
            *(
                reader.queued(after, until, limit)
                for after in (0, FIRST, SECOND)
                for until in (SECOND, THIRD + 1)
                for limit in (1, 9)
            ),
            *(reader.delayed((-1.0, 0, 0), BEGUN + at, limit) for at in (0, 50, 999) for limit in (1, 9)),
            reader.waiting(IDS, BEGUN + 50),
            *(reader.ages(after, limit) for after in (0, FIRST) for limit in (1, 9)),
            *(reader.due(ids, BEGUN + 50, 10_000) for ids in (IDS, (THIRD, FIRST), ())),
        ]
        result["each"] = [
            (
                reader.record(id),
                list(reader.content(id)),
                reader.has_ended(id, BEGUN + 999),
                reader.resolve(id_text(id)),
            )
            for id in IDS
        ]
        result["all"] = reader.summary(), reader.totals(), reader.last_id(), reader.forgettable(BEGUN + 999, 9)
        result["stops"] = reader.stops(0.0)
    history = open_store(folder).history()
    result["between"] = list(history.between(BEGUN - 1, BEGUN + 99))
    result["one"] = list(history.between(BEGUN - 1, BEGUN + 99, message=SECOND))
    result["word"] = list(history.between(BEGUN - 1, BEGUN + 99, "report 1"))
    result["place"] = history.now()
    result["after"] = history.after(history.place({"messages": [], "attempts": [], "journal": 0}))
    history.close()
    return result


def kept(folder: Path) -> list[int]:
    """How many rows of three tables there are."""
    connection = sqlite3.connect(folder / "queue.sqlite")
    tables = "compact", "message", "recipient"
    counts = [connection.execute(f"SELECT count(*) FROM {table}").fetchone()[0] for table in tables]
    connection.close()
    return counts


SESSION = SessionFacts(tls="TLSv1.3")


def attempt(number: int) -> Attempt:
    return Attempt(
        id_at(BEGUN + 30), IDS[number], BEGUN + 30, 0.5, "house", "h:25", "192.0.2.9", "accept", "", "", 250, "2.0.0",
        "kept", AttemptFacts([RecipientResult("r1@y.example", "relayed", "accept", "250 kept")], SESSION), None,
    )  # fmt: skip


def outcome(number: int, state: State, next_try: float | None = None) -> SetState:
    return SetState(IDS[number], 1, state, 1, next_try, "house", "250 kept", BEGUN + 31, "h:25")


RELAYED = RecordRelayed(
    *attempt(1)[:7], 250, "2.0.0", "kept", [(1, 1, "r1@y.example", "250 kept")], SESSION, BEGUN + 31, True
)
CHANGES = {
    "nothing": [],
    "delayed": [outcome(1, State.DELAYED, BEGUN + 40), RecordAttempt(attempt(1))],
    "failed": [outcome(1, State.FAILED)],
    "an attempt": [RecordAttempt(attempt(1))],
    "journal": [WriteEntry(JournalEntry(at=BEGUN + 30, event=Event.NOTICE, message=SECOND))],
    "extended": [ExtendLifetime(SECOND, BEGUN + 9999)],
    "sent by": [SendBy("branch", SECOND, 1)],
    "one more": [AddRecipient(Recipient(SECOND, 2, "r9@y.example", changed=BEGUN + 30))],
    "moved": [MoveContent(SECOND, 0, octets(1))],
    "relayed": [RELAYED],
    "relayed, the long way": [outcome(1, State.RELAYED), RecordAttempt(attempt(1))],
}


@pytest.mark.parametrize("change", CHANGES.values(), ids=CHANGES)
def test_whoever_looks_cannot_tell(folder: Path, change: Transaction) -> None:
    """Before, and after something has happened to one of three."""
    started = [
        *map(WriteEntry, [JournalEntry(at=at, event=Event.STARTED, message=None) for at in (BEGUN - 100, BEGUN + 100)])
    ]
    whole = [added(message(n), [recipient(n)], octets(n)) for n in range(3)]
    write(folder / "compact", started, *([fresh(n)] for n in range(3)))
    write(folder / "whole", started, *whole)
    assert kept(folder / "compact") == [3, 0, 0] and kept(folder / "whole") == [0, 3, 3]
    assert looks(folder / "compact") == looks(folder / "whole")
    write(folder / "compact", change)
    write(folder / "whole", change)
    assert kept(folder / "compact")[:2] == ([3, 0] if change is CHANGES["nothing"] else [2, 1])
    assert looks(folder / "compact") == looks(folder / "whole")


def test_many_are_relayed_in_one_commit(folder: Path) -> None:
    """Compact and expanded ones; more than one statement takes."""
    connection = connect_writer(folder)
    ids = [id_at(BEGUN) + number for number in range(50)]

    def of(id: int, number: int) -> Recipient:
        return Recipient(id, number, f"r{number}@y.example")

    arrived = [AddMessage(message(0)._replace(id=id), [of(id, 1), of(id, 2)][: 1 + id % 3 % 2], b"") for id in ids]
    assert commit(connection, Batch(additions=[encode([item], len)[0][1] for item in arrived])) == [None] * 50
    relayed = [
        RELAYED._replace(
            id=item.message.id,
            message=item.message.id,
            results=[(r.number, 1, r.address, "250") for r in item.recipients],
        )
        for item in arrived
    ]
    assert commit(connection, Batch(relayed=[encode([item], len)[0][1] for item in relayed])) == [None] * 50
    connection.close()
    with open_store(folder).reader() as reader:
        assert reader.totals() == {State.RELAYED: sum(len(item.recipients) for item in arrived)} and not reader.queue()
        assert [reader.recipients(id)[0].id for id in ids] == ids
    assert kept(folder)[0] == 0


def test_the_file_of_a_compact_message_stays_until_it_has_left(folder: Path) -> None:
    """Promise 1."""
    write(folder, [fresh(1)])
    connection = connect_writer(folder)
    assert holds_content(connection) and used_segments(connection) == {1}
    write(folder, [RELAYED])
    assert not holds_content(connection) and not used_segments(connection)
    connection.close()


def test_the_content_of_a_compact_message_counts_and_can_be_moved(
    folder: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(reads, "WORTH_CLEARING", 1)
    write(folder, [AddMessage(message(0)._replace(size=500_000), [recipient(0)], bytes(500_000))])
    segments = Segments(folder)
    segments.append(b"of the next file")
    segments.leave()
    with (folder / "content" / "00000001").open("ab") as file:
        file.write(bytes(2_000_000))  # of which nothing is wanted any more
    with open_store(folder).reader() as reader:
        assert reader.size() > 500_000
        assert [(id, number, len(portion)) for id, number, portion in reader.scattered(1)] == [(FIRST, 0, 500_000)]


def at_statement(part: str, connection: sqlite3.Connection, do: Callable[[], None]) -> None:
    """Have something done once, just before the first statement with `part` in it begins."""
    left = [do]

    def begin(statement: str) -> None:
        if part in statement and left:
            left.pop()()

    connection.set_trace_callback(begin)


DELAYED = CHANGES["delayed"]


def test_what_is_queued_is_looked_for_at_one_moment(folder: Path) -> None:
    """One that is delayed meanwhile is found once, as it was, and not passed over."""
    write(folder, *([fresh(n)] for n in range(3)))
    with open_store(folder).reader() as reader:
        at_statement("FROM content c", reader._connection, lambda: write(folder, DELAYED))
        assert [row.message for row in reader.queued(0, THIRD + 1, 9)] == IDS
    assert kept(folder)[0] == 2  # it was done


def test_what_is_due_is_looked_for_at_one_moment(folder: Path) -> None:
    write(folder, *([fresh(n)] for n in range(3)))
    with open_store(folder).reader() as reader:
        at_statement("FROM recipient r JOIN", reader._connection, lambda: write(folder, DELAYED))
        result = reader.due(IDS, BEGUN + 50)
    assert [(due.message.id, [recipient.state for recipient in due.recipients]) for due in result] == [
        (id, [State.QUEUED]) for id in IDS
    ]
    assert kept(folder)[0] == 2  # it was done


@pytest.mark.parametrize("look", [lambda r: r.queue(), lambda r: r.select(Selection(states=tuple(State)))])
def test_what_is_expanded_meanwhile_is_listed_once(folder: Path, look: Callable[[Reader], Sequence[Any]]) -> None:
    write(folder, *([fresh(n)] for n in range(3)))
    with open_store(folder).reader() as reader:
        at_statement("JOIN message m", reader._connection, lambda: write(folder, DELAYED))
        assert [row.message.id for row in look(reader)] == IDS
    assert kept(folder)[0] == 2


def test_what_came_at_the_same_instant_stays_in_its_order(folder: Path) -> None:
    """When the first of it is expanded, too."""
    twins = [[fresh(1)._replace(message=message(1)._replace(id=SECOND + n))] for n in range(3)]
    write(folder, *twins, [ExtendLifetime(SECOND, BEGUN + 9999)])
    history = open_store(folder).history()
    assert [event.item.id - SECOND for event in history.between(BEGUN - 1, BEGUN + 99)] == [0, 1, 2]  # type: ignore[union-attr]
    history.close()


def test_what_is_expanded_meanwhile_is_followed(folder: Path) -> None:
    """Between the look for what is new and the look at it."""
    write(folder, [fresh(0)])
    history = open_store(folder).history()
    expanding = [ExtendLifetime(FIRST, BEGUN + 9999)]
    at_statement("FROM compact_message m", history._query.__self__, lambda: write(folder, expanding))
    assert [
        event.item.id for event in history.after(history.place({"messages": [], "attempts": [], "journal": 0}))
    ] == [FIRST]  # type: ignore[union-attr]
    assert kept(folder)[0] == 0
    history.close()
