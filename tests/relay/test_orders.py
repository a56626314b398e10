"""What an administrator has done with the queue: what each action makes of each state, and that nothing slips by."""

from __future__ import annotations

import asyncio
import os
import signal
from functools import partial
from pathlib import Path

import pytest

from copper_kite.net.authority import CertificateFiles
from copper_kite.relay.orders import carry_out
from copper_kite.session.standin import Rule
from copper_kite.smtp.replies import Reply
from copper_kite.store.commit import want
from copper_kite.store.model import Message, Recipient, Wanted
from copper_kite.store.reads import Reader
from copper_kite.store.schema import connect_writer
from copper_kite.words import FINAL, Action, State
from tests.relay.test_relay import letter, records, talk
from tests.support import Site, StoppedClock, converse, site

MESSAGE = Message(7, 100.0, 500.0, "a@x.example", 4, False, False, "<m>", "l", "unix", "h", "", "ESMTP")


@pytest.mark.parametrize(
    ("action", "moves"),
    [
        (Action.RETRY, {State.QUEUED: State.QUEUED, State.DELAYED: State.QUEUED, State.FAILED: State.QUEUED}),
        (Action.PARK, {State.QUEUED: State.PARKED, State.DELAYED: State.PARKED}),
        (Action.RELEASE, {State.PARKED: State.QUEUED}),
        (Action.REMOVE, dict.fromkeys((State.QUEUED, State.DELAYED, State.PARKED, State.FAILED), State.REMOVED)),
    ],
)
def test_each_action_on_each_state(action: Action, moves: dict[State, State]) -> None:
    """What has ended stays as it is, but for what failed."""
    for state in State:
        recipient = Recipient(7, 1, "r@y.example", state, 3, 450.0, "beacon", "451 later", 200.0)
        change = carry_out(MESSAGE, [recipient], [Wanted(5, 590.0, "root", action, 7, 1)], 600.0)
        assert change.done == [5]
        if state not in moves:
            assert not change.outcomes and not change.journal
            continue
        (outcome,) = change.outcomes
        assert (outcome.state, outcome.attempts) == (moves[state], 3)
        assert outcome.next_try == (600.0 if moves[state] is State.QUEUED else None)
        assert change.journal[0].facts == {"action": action.value, "who": "root", "recipients": ["r@y.example"]}
        assert change.extended == ([(1000.0, 7)] if state is State.FAILED and action is Action.RETRY else ())


def test_the_last_word_counts() -> None:
    """Several at once, in their order; and what is wanted of somebody who is not there is done with."""
    recipient = Recipient(7, 1, "r@y.example", State.DELAYED)
    orders = [Wanted(n, 1.0, "root", action, 7, number) for n, (action, number) in enumerate(
        [(Action.PARK, 1), (Action.RELEASE, 1), (Action.REMOVE, 1), (Action.RETRY, 1), (Action.RETRY, 9)]
    )]  # fmt: skip
    change = carry_out(MESSAGE, [recipient], orders, 2.0)
    assert [outcome.state for outcome in change.outcomes] == [State.REMOVED] and list(change.done) == [0, 1, 2, 3, 4]
    assert [entry.facts["action"] for entry in change.journal] == ["park", "release", "remove"]


def ask(here: Site, action: Action, *states: State) -> None:
    connection = connect_writer(here.loaded.data)
    with here.reader() as reader:
        rows = reader.queue(states)
    want(connection, [Wanted(0, 0.0, "root", action, row.message.id, row.recipient.number) for row in rows])
    connection.close()
    os.kill(os.getpid(), signal.SIGUSR1)


def states(here: Site) -> list[State]:
    with here.reader() as reader:
        return [row.recipient.state for row in reader.queue(tuple(State)) if row.message.reverse_path]


def test_with_the_server_running(folder: Path, authority: CertificateFiles) -> None:
    """Parked mail rests, released mail goes, what failed can be tried again; each once, and the journal says who."""
    rules = (
        Rule("late@*", Reply(451, "4.7.1", "later"), times=1),
        Rule("gone@*", Reply(550, "5.1.1", "no"), times=1),
    )

    async def live() -> None:
        async with site(folder, authority, rules=rules, clock=StoppedClock()) as here:
            await converse(here.port, talk(letter("late@x.example"), letter("gone@x.example")))
            await here.until(lambda reader: states(here) == [State.DELAYED, State.FAILED])
            await here.until_caught(1)  # the notice
            ask(here, Action.PARK, State.DELAYED)
            await here.until(lambda reader: states(here) == [State.PARKED, State.FAILED])
            here.service._dispatcher._refill()  # type: ignore[union-attr]
            ask(here, Action.RELEASE, State.PARKED)
            await here.until_caught(2)
            ask(here, Action.RETRY, State.FAILED)
            await here.until_caught(3)
            await here.until(lambda reader: states(here) == [State.RELAYED, State.RELAYED] and not reader.wanted())
            told = [
                [entry.facts["action"] for entry in record.journal if entry.event.value == "ordered"]
                for record in records(here)
            ]
            assert [actions for actions in told if actions] == [["park", "release"], ["retry"]]
            with here.reader() as reader:
                assert all(not list(reader.content(record.message.id)) for record in records(here))

    asyncio.run(live())


def test_what_is_on_its_way_has_its_turn_afterwards(folder: Path, authority: CertificateFiles) -> None:
    """An order does not get between an attempt and its record."""
    rules = (Rule("slow@*", Reply(451, "4.7.1", "later"), wait=0.3),)

    async def live() -> None:
        async with site(folder, authority, rules=rules, clock=StoppedClock()) as here:
            await converse(here.port, talk(letter("slow@x.example")))
            ask(here, Action.REMOVE, State.QUEUED)
            assert states(here) == [State.QUEUED]
            await here.until(lambda reader: states(here) == [State.REMOVED] and not reader.wanted())
            (record,) = records(here)
            assert [attempt.code for attempt in record.attempts] == [451] and record.recipients[0].attempts == 1
            assert not here.caught

    asyncio.run(live())


def holds_content(here: Site, messages: int, reader: Reader) -> bool:
    return sum(bool(list(reader.content(record.message.id))) for record in records(here)) == messages


def test_what_failed_is_let_go_in_the_end(folder: Path, authority: CertificateFiles) -> None:
    """`keep_failed`."""
    extra = '[retry]\nkeep_failed = "1h"\n'

    async def live() -> None:
        clock = StoppedClock()
        rules = (Rule("gone@*", Reply(550, "5.1.1", "no")),)
        async with site(folder, authority, rules=rules, clock=clock, extra=extra) as here:
            await converse(
                here.port,
                talk(letter("gone@x.example", sender=""), letter("late@x.example", "gone@x.example", sender="")),
            )
            await here.until(lambda reader: not reader.queue() and len(reader.queue(tuple(FINAL))) == 3)
            for hours, kept in ((0.9, 2), (1.1, 0)):
                clock.time += hours * 3600
                here.service.sweep_out()
                await here.until(partial(holds_content, here, kept))

    asyncio.run(live())
