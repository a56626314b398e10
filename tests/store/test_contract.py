"""What any engine must keep of the contract of the store. Rows Q-01, Q-10, Q-12."""

from __future__ import annotations

from pathlib import Path

import pytest

from copper_kite.errors import Ambiguous, KiteError, NotFound, StoreError, StoreFailed
from copper_kite.store import (
    AddContent,
    AddMessage,
    AddRecipient,
    AdminRequest,
    Attempt,
    AttemptFacts,
    DropContent,
    ExtendLifetime,
    FinishRequest,
    Forget,
    ForgetOld,
    IdMaker,
    JournalEntry,
    Message,
    Recipient,
    RecipientResult,
    RecordAttempt,
    RecordRelayed,
    RetryNow,
    SendBy,
    SessionFacts,
    SetState,
    ShiftClock,
    StageTook,
    Store,
    Transaction,
    TriedAddress,
    WriteEntry,
    Writer,
    id_range,
    id_text,
)
from copper_kite.store.ids import EPOCH
from copper_kite.store.postgres.engine import PostgresStore
from copper_kite.words import Action, Event, State
from tests.store.turns import Turns, message, submission, write_together
from tests.support import whole


def write(store: Store, *transactions: Transaction) -> None:
    assert store.write(transactions) == [None] * len(transactions)


# --- writing ---------------------------------------------------------------------------------------------------------


def test_nobody_is_answered_before_the_commit(store: Store, writer: Writer, turns: Turns) -> None:
    """Promise 1: what is answered can be read by another connection; what cannot be read was not answered."""
    answered: list[KiteError | None] = []
    for id in (1, 2, 3):
        writer.submit(submission(id), answered.append)
    turns.turn()
    assert answered == []
    turns.turn()
    assert answered == [None, None, None]
    with store.reader() as reader:
        assert [row.message.id for row in reader.queue()] == [1, 2, 3]
        assert list(reader.content(2)) == [b"abc"]


def test_a_change_that_fails_takes_no_other_with_it(store: Store, writer: Writer, turns: Turns) -> None:
    assert write_together(writer, turns, submission(1)) == [None]
    errors = write_together(writer, turns, submission(2), submission(1, "again@y.example"), submission(3))
    assert [error is None for error in errors] == [True, False, True]
    with store.reader() as reader:
        assert [row.recipient.address for row in reader.queue()] == ["b@y.example"] * 3


def test_a_callback_that_breaks_stops_nobody_else(writer: Writer, turns: Turns) -> None:
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


def test_what_waits_at_the_end_is_still_written(store: Store, turns: Turns) -> None:
    writer = turns.start(store)
    answered: list[KiteError | None] = []
    writer.submit(submission(1), answered.append)
    turns.turn()
    writer.submit(submission(2), answered.append)
    writer.close()
    assert answered == [None, None] and not turns.lost
    with store.reader() as reader:
        assert len(reader.queue()) == 2


@pytest.mark.parametrize(
    "facts",
    [
        {"text": "a lone \ud800 surrogate", "\udfff": [1, ("\udc00",)]},
        {"place": Path("/x"), "set": {1}},  # what no frame carries
        {"large": 2**80},
    ],
)
def test_text_that_cannot_be_stored_is_made_storable(
    store: Store, writer: Writer, turns: Turns, facts: dict[str, object]
) -> None:
    innocent, odd = submission(1), message(2, subject="a \ud83d b", message_id="<\udcff@x>")
    entry = WriteEntry(JournalEntry(at=1.0, event=Event.ALARM, facts=facts, message=2))
    guilty = [*whole(odd, [Recipient(2, 1, "b@y.example")], b"abc"), entry]
    assert write_together(writer, turns, innocent, guilty, submission(3)) == [None] * 3
    with store.reader() as reader:
        assert [row.message.id for row in reader.queue()] == [1, 2, 3]
        assert reader.recipients(2)[0].subject == "a \ufffd b"


def test_a_number_that_has_no_room_fails_its_change_alone(writer: Writer, turns: Turns) -> None:
    wrong = whole(message(4, arrived=float("nan")), [Recipient(4, 1, "b@y.example")], b"abc")
    errors = write_together(writer, turns, submission(3), wrong, submission(5))
    assert [type(error) for error in errors] == [type(None), StoreFailed, type(None)]


def test_what_was_computed_before_the_clock_was_set_is_shifted_and_nothing_else(
    store: Store, writer: Writer, turns: Turns
) -> None:
    """In the order of submitting, also where it would go into one transaction; and not what another clock had noted."""
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
    with store.reader() as reader:
        rows = {row.message.id: (row.message.expires, row.recipient.next_try) for row in reader.queue()}
    assert rows == {1: (1900.0, rows[1][1]), 2: (1900.0, 1500.0), 3: (1900.0, 500.0), 4: (900.0, 500.0)}


# --- what is kept -----------------------------------------------------------------------------------------------------


def outcome(number: int, state: State, next_try: float | None = None) -> SetState:
    return SetState(1, number, state, attempts=1, next_try=next_try, connector="beacon", reply="r", at=0.0)


def test_content_stays_until_the_last_recipient_has_ended(store: Store) -> None:
    write(store, submission(1, "b@y", "c@y"))
    write(store, [outcome(1, State.RELAYED), outcome(2, State.DELAYED, 500.0)])
    with store.reader() as reader:
        assert list(reader.content(1)) == [b"abc"]
        assert [due.recipients[0].address for due in reader.due([1], 600.0)] == ["c@y"]
        assert reader.due([1], 499.0) == [] and reader.next_due(499.0) == 500.0
    write(store, [outcome(2, State.FAILED)])
    with store.reader() as reader:
        assert list(reader.content(1)) == [b"abc"], "what failed can be looked at, and tried again"
        assert reader.queue() == [] and reader.totals() == {State.RELAYED: 1, State.FAILED: 1}
        first = (-1.0, 0, 0)
        assert reader.failed_between(first, 1e12, 10) == [(0.0, 1, 2)]
        assert reader.failed_between((0.0, 1, 2), 1e12, 10) == [] and reader.has_ended(1, 0.0)
    write(store, [outcome(2, State.REMOVED)])
    with store.reader() as reader:
        assert list(reader.content(1)) == [] and reader.failed_between(first, 1e12, 10) == []


def test_what_is_delayed_comes_in_the_order_of_its_time(store: Store) -> None:
    write(store, *(submission(id) for id in range(1, 6)))
    delayed = [SetState(id, 1, State.DELAYED, 1, 1000.0 - id, "beacon", "r", 0.0) for id in range(1, 6)]
    write(store, [*delayed])
    with store.reader() as reader:
        first = reader.delayed((-1.0, 0, 0), 998.0, 3)
        assert [row.message for row in first] == [5, 4, 3]
        last = (first[-1].next_try, first[-1].message, first[-1].number)
        assert [row.message for row in reader.delayed(last, 998.0, 3)] == [2]


def test_what_is_queued_is_looked_for_where_the_last_look_ended(store: Store) -> None:
    """So the next look need not pass over all that is in hand, or waits for a time; a message is found whole."""
    write(store, *(submission(id, "b@y", "c@y") for id in range(1, 6)))
    with store.reader() as reader:
        assert [(row.message, row.number) for row in reader.queued(1, 4, 3)] == [(2, 1), (2, 2), (3, 1), (3, 2)]
        assert [row.message for row in reader.queued(3, 4, 3)] == [4, 4]
        assert reader.queued(4, 4, 3) == [] and reader.queued(5, 99, 3) == []


def test_stray_content_is_found(store: Store) -> None:
    write(store, submission(1), [AddContent(9, 0, b"half")])
    with store.reader() as reader:
        assert reader.stray_content() == [9]
    write(store, [DropContent(9)])
    with store.reader() as reader:
        assert reader.stray_content() == []


def attempt(id: int, message: int, relayed: int, text: str, stage: str = "accept") -> Attempt:
    return Attempt(
        id=id, message=message, at=float(id), seconds=0.1, connector="beacon", next_hop="h:25", address="", stage=stage,
        side="", cause="", code=250, enhanced="", text=text, facts=AttemptFacts([RecipientResult("b@y", "relayed", "accept", text)] if relayed else []),
        dialogue=None,
    )  # fmt: skip


def test_ids(store: Store) -> None:
    """Q-10, Q-12: rising, also when the clock goes back; found by their beginning."""
    maker = IdMaker()
    first = maker.next(EPOCH + 10.0)
    assert maker.next(EPOCH + 10.0) == first + 1
    assert maker.next(EPOCH - 5e6) == first + 2
    assert IdMaker(last=first + 9).next(EPOCH) == first + 10
    assert len(id_text(first)) == 10 and id_range(id_text(first)) == (first, first)
    assert id_range(id_text(first).lower().replace("0", "o")) == (first, first)
    assert id_range("") is None and id_range("U") is None and id_range("0" * 11) is None
    write(store, submission(first), submission(first + 1))
    with store.reader() as reader:
        assert reader.resolve(id_text(first)) == first
        with pytest.raises(Ambiguous) as ambiguous:
            reader.resolve(id_text(first)[:6])
        assert len(ambiguous.value.ids) == 2
        with pytest.raises(NotFound):
            reader.resolve("ZZ")


# --- each operation --------------------------------------------------------------------------------------------------


def test_a_message_comes_whole_or_in_portions(store: Store) -> None:
    """The same is seen of it: queued, due at once, with what it was counted as."""
    recipients = [Recipient(id, n, f"r{n}@y.example", esmtp_parameters="NOTIFY=NEVER") for id in (1, 2) for n in (1, 2)]
    write(store, [AddMessage(message(1), recipients[:2], b"abc", ("ticketing", 7, 2))], [AddContent(2, 0, b"ab")])
    write(store, [AddContent(2, 1, b"c"), AddMessage(message(2), recipients[2:], None, ("ticketing", 7, 2))])
    with store.reader() as reader:
        rows = reader.queue()
        assert [(row.message.id, row.recipient.number, row.recipient.esmtp_parameters) for row in rows] == [
            (id, n, "NOTIFY=NEVER") for id in (1, 2) for n in (1, 2)
        ]
        assert {(row.recipient.state, row.recipient.next_try) for row in rows} == {(State.QUEUED, 100.0)}
        assert [b"".join(reader.content(id)) for id in (1, 2)] == [b"abc", b"abc"]
        assert reader.taken("ticketing", 7) == [(7, 4)] and reader.taken("ticketing", 8) == []
        assert reader.stray_content() == [] and [due.message.id for due in reader.due([2, 1], 100.0)] == [2, 1]


RECORDED = Attempt(
    9, 1, 150.0, 0.5, "beacon", "h:25", "192.0.2.9", "accept", "", "", 250, "2.0.0", "kept",
    AttemptFacts(
        [RecipientResult("b@y.example", "relayed", "accept", "250 2.0.0 kept")],
        SessionFacts([StageTook("greet", 0.1, "220 h")], [TriedAddress("g:25", "192.0.2.8", "connect", "lost", "no")],
                     1, "TLSv1.3", "AES", True, "tern", "PLAIN", "starttls", "system"),
    ),
    None,
)  # fmt: skip


def test_an_attempt_is_given_back_as_it_was(store: Store) -> None:
    delayed = RECORDED._replace(
        id=10, code=None, facts=AttemptFacts([], SessionFacts([], [])), dialogue=[[0.1, "S:", "220 h"]]
    )
    write(store, submission(1), [RecordAttempt(RECORDED), RecordAttempt(delayed)])
    with store.reader() as reader:
        assert reader.record(1).attempts == [RECORDED, delayed]


def test_what_was_relayed_to_all_is_an_attempt_and_its_states(store: Store) -> None:
    """`RecordRelayed` leaves what the operations leave that it stands for."""
    row = RECORDED[:7]
    session, reply = RECORDED.facts.session, RECORDED.facts.results[0].reply
    write(store, submission(1), submission(2))
    write(
        store,
        [RecordRelayed(*row, 250, "2.0.0", "kept", [(1, 1, "b@y.example", reply)], session, 151.0, True)],
        [
            RecordAttempt(RECORDED._replace(id=10, message=2)),
            SetState(2, 1, State.RELAYED, 1, None, "beacon", reply, 151.0, "h:25"),
        ],
    )
    with store.reader() as reader:
        short, long = reader.record(1), reader.record(2)
        assert [attempt._replace(id=0, message=0) for attempt in short.attempts] == [
            attempt._replace(id=0, message=0) for attempt in long.attempts
        ]
        assert short.recipients[0]._replace(message=2) == long.recipients[0]
        assert not list(reader.content(1)) and not list(reader.content(2))
        assert reader.relayed_since("beacon", 151.0) == 2 and reader.relayed_since("beacon", 151.5) == 0


def test_an_administrator_moves_what_waits(store: Store) -> None:
    """What was wanted, another connector, a longer lifetime, another recipient, all of a connector at once."""
    write(store, submission(1), submission(2))
    numbers = store.add_requests(
        [AdminRequest(0, 5.0, "root", Action.PARK, 1, 1), AdminRequest(0, 6.0, "root", Action.RETRY, 2, 1)]
    )
    delayed = [SetState(id, 1, State.DELAYED, 1, 900.0, "beacon", "451", 100.0) for id in (1, 2)]
    write(store, delayed, [SendBy("harbour", 1, 1), ExtendLifetime(1, 5000.0), FinishRequest(numbers[0])])
    write(store, [AddRecipient(Recipient(2, 2, "c@y.example", next_try=7.0)), RetryNow("beacon", 300.0)])
    with store.reader() as reader:
        assert [
            (request.number, request.who, request.action, request.message) for request in reader.admin_requests()
        ] == [(numbers[1], "root", Action.RETRY, 2)]
        first, (_, others) = reader.recipients(1), reader.recipients(2)
        assert first[0].expires == 5000.0 and first[1][0].via == "harbour" and first[1][0].next_try == 300.0
        assert [(other.address, other.next_try) for other in others] == [("b@y.example", 300.0), ("c@y.example", 7.0)]
        assert reader.next_due(299.0) == 300.0 and reader.next_due(300.0) is None


def test_outcomes_are_counted_by_the_minute(store: Store) -> None:
    """What clients submit, each attempt that puts off, and each end; our own notices do not count as accepted."""
    put_off = [RecipientResult(f"r{n}@y.example", "delayed", "accept", "450 later") for n in (1, 2)]
    delayed = RECORDED._replace(at=185.0, facts=AttemptFacts(put_off, SessionFacts([], [])))
    notice = AddMessage(message(3)._replace(listener=""), [Recipient(3, 1, "a@x.example")], b"abc", ("", 0, 0))
    ends = [
        SetState(1, 1, State.RELAYED, 2, None, "beacon", "250", 240.0),
        SetState(1, 2, State.FAILED, 2, None, "beacon", "550", 241.0),
    ]
    accepted = AddMessage(message(1), [Recipient(1, n, f"r{n}@y.example") for n in (1, 2)], b"abc", ("a", 0, 2))
    refused = WriteEntry(JournalEntry(at=241.0, event=Event.REFUSED))
    write(store, [accepted], [notice], [RecordAttempt(delayed)], ends, [refused])
    with store.reader() as reader:
        first, *later = reader.tallies(0.0)
        assert first == (1, "", "accepted", 2)
        assert later == [
            (3, "beacon", "delayed", 2),
            (4, "", "refused", 1),
            (4, "beacon", "failed", 1),
            (4, "beacon", "relayed", 1),
        ]
        assert reader.tallies(200.0) == later


def test_what_is_old_is_forgotten(store: Store) -> None:
    """A message with all that was recorded of it; entries of no message; what senders had submitted."""
    ended = [SetState(1, 1, State.RELAYED, 1, None, "beacon", "250", 110.0), RecordAttempt(RECORDED)]
    entries = [JournalEntry(at=at, event=Event.ALARM, message=of) for at, of in ((5.0, None), (900.0, None), (6.0, 1))]
    write(store, submission(1), submission(2), ended, [WriteEntry(entry) for entry in entries])
    write(store, [AddMessage(message(3), [Recipient(3, 1, "b@y.example")], b"abc", ("a", 3, 1))])
    with store.reader() as reader:
        assert reader.forgettable(EPOCH + 9.0, 9) == [1] and reader.forgettable(50.0, 9) == []
        write(store, [Forget(1), ForgetOld(100.0, 4)])
        with pytest.raises(NotFound):
            reader.record(1)
        assert reader.taken("a", 0) == [] and reader.tallies(0.0) == []
        assert [row.message.id for row in reader.queue()] == [2, 3]
    history = store.history()
    assert [event.item.at for event in history.between(0.0, 1e9) if isinstance(event.item, JournalEntry)] == [900.0]
    history.close()


def test_what_happens_is_followed_from_a_place_that_can_be_kept(store: Store) -> None:
    write(store, submission(1))
    history = store.history()
    place = history.place(history.now().export())
    write(store, submission(2), [RecordAttempt(RECORDED)], [WriteEntry(JournalEntry(at=1.0, event=Event.STARTED))])
    assert {type(event.item) for event in history.after(place)} == {Message, Attempt, JournalEntry}
    assert history.after(place) == []
    with pytest.raises(KeyError):
        history.place({"messages": []})
    history.close()


def test_a_store_is_looked_over_and_made_anew(store: Store, folder: Path) -> None:
    write(store, submission(1), submission(2), [SetState(2, 1, State.REMOVED, 0, None, "", "", 1.0)])
    verified = store.verify()
    assert verified.sound and verified.portions == 1
    assert store.watch()() == ""
    if isinstance(store, PostgresStore):
        with pytest.raises(StoreError, match="restore the database from its backup"):
            store.rescue(folder / "anew", 2000.0)
        return
    rescued = store.rescue(folder / "anew", 2000.0)
    assert (rescued.known, rescued.parked, rescued.ended, rescued.lost) == (1, 0, 1, [])
