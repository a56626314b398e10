"""What an administrator has done with the queue: what each action makes of each state, and that nothing slips by."""

from __future__ import annotations

import os
import signal
from pathlib import Path
from typing import Any

import pytest

from copper_kite.net.authority import CertificateFiles
from copper_kite.relay.admin_requests import AdminRequests
from copper_kite.relay.decide import Retry
from copper_kite.relay.delivery import Recorder
from copper_kite.relay.notices import Notices
from copper_kite.relay.recorded import Recorded
from copper_kite.session.standin import Rule
from copper_kite.smtp.replies import Reply
from copper_kite.store import (
    AddRecipient,
    AdminRequest,
    ExtendLifetime,
    FinishRequest,
    IdMaker,
    Message,
    Recipient,
    SendBy,
    open_store,
)
from copper_kite.words import Action, State
from tests.cli.test_commands import smart_host, take
from tests.relay.test_relay import letter, records, talk
from tests.support import Site, StoppedClock, converse, site

MESSAGE = Message(7, 100.0, 500.0, "a@x.example", 4, False, False, "<m>", "l", "unix", "h", "", "ESMTP")
TARGETS = {Action.SEND_BY: "second", Action.SEND_TO: "s@z.example"}


def orders(*portions: bytes) -> AdminRequests:
    ids = IdMaker()
    notices = Notices(
        server="quay1.example", postmaster="postmaster@quay1.example", ids=ids, late_after=1e9, lifetime=1e9
    )
    return AdminRequests(Recorder(Retry([60.0]), ids, notices), lambda id: portions or (b"Subject: x\r\n\r\n",))


def test_what_failed_and_is_gone_cannot_go_again() -> None:
    """Without its content there is nothing to send; it can only be taken off the list."""
    recipient = Recipient(7, 1, "r@y.example", State.FAILED)
    for action in (Action.RETRY, Action.SEND_BY, Action.SEND_TO):
        empty = AdminRequests(orders().recorder, lambda id: ())
        change = empty.carry_out(MESSAGE, [recipient], [AdminRequest(5, 590.0, "root", action, 7, 1, "x")], 600.0)
        assert not change.states and not of(AddRecipient, change) and numbers(change) == [5]


def test_two_that_go_to_the_same_one_go_once() -> None:
    """Of several recipients sent to one address, that one gets one copy."""
    recipients = [Recipient(7, number, f"r{number}@y.example", State.DELAYED) for number in (1, 2)]
    wanted = [AdminRequest(n, 1.0, "root", Action.SEND_TO, 7, n, "s@z.example") for n in (1, 2)]
    change = orders().carry_out(MESSAGE, recipients, wanted, 2.0)
    assert [added.recipient.address for added in of(AddRecipient, change)] == ["s@z.example"]
    assert [outcome.state for outcome in change.states] == [State.REMOVED, State.REMOVED]


def of(kind: type[Any], recorded: Recorded) -> list[Any]:
    """The operations of one kind."""
    return [operation for operation in recorded.others if isinstance(operation, kind)]


def numbers(recorded: Recorded) -> list[int]:
    """Of the orders that it finishes."""
    return [order.number for order in of(FinishRequest, recorded)]


@pytest.mark.parametrize(
    ("action", "moves"),
    [
        (Action.RETRY, {State.QUEUED: State.QUEUED, State.DELAYED: State.QUEUED, State.FAILED: State.QUEUED}),
        (Action.PARK, {State.QUEUED: State.PARKED, State.DELAYED: State.PARKED}),
        (Action.RELEASE, {State.PARKED: State.QUEUED}),
        (Action.RETURN, dict.fromkeys((State.QUEUED, State.DELAYED, State.PARKED), State.FAILED)),
        (Action.SEND_BY, dict.fromkeys((State.QUEUED, State.DELAYED, State.PARKED, State.FAILED), State.QUEUED)),
        (Action.SEND_TO, dict.fromkeys((State.QUEUED, State.DELAYED, State.PARKED, State.FAILED), State.REMOVED)),
        (Action.REMOVE, dict.fromkeys((State.QUEUED, State.DELAYED, State.PARKED, State.FAILED), State.REMOVED)),
    ],
)
def test_each_action_on_each_state(action: Action, moves: dict[State, State]) -> None:
    """What has ended stays as it is, but for what failed."""
    for state in State:
        recipient = Recipient(7, 1, "r@y.example", state, 3, 450.0, "beacon", "451 later", 200.0)
        change = orders().carry_out(
            MESSAGE, [recipient], [AdminRequest(5, 590.0, "root", action, 7, 1, TARGETS.get(action, ""))], 600.0
        )
        assert numbers(change) == [5]
        if state not in moves:
            assert not change.states and not change.entries
            continue
        (outcome,) = change.states
        assert (outcome.state, outcome.attempts) == (moves[state], 3)
        assert outcome.next_try == (600.0 if moves[state] is State.QUEUED else None)
        told: dict[str, Any] = {"action": action.value, "who": "root", "recipients": ["r@y.example"]}
        told |= {"added": [2]} if action is Action.SEND_TO else {}
        assert change.entries[0].facts == (told | {"to": TARGETS[action]} if action in TARGETS else told)
        assert of(ExtendLifetime, change) == (
            [(7, 1000.0)] if state is State.FAILED and action is not Action.REMOVE else []
        )
        assert bool(change.notices) == (action is Action.RETURN), "whose sender is told"
        assert of(SendBy, change) == ([("second", 7, 1)] if action is Action.SEND_BY else [])
        if action is Action.SEND_TO:
            ((added,),) = of(AddRecipient, change)
            assert (added.address, added.number, added.esmtp_parameters) == (
                "s@z.example",
                2,
                "ORCPT=rfc822;r@y.example",
            )
            assert outcome.reply == "sent to s@z.example instead"


def test_the_last_word_counts() -> None:
    """Several at once, in their order; and what is wanted of somebody who is not there is done with."""
    recipient = Recipient(7, 1, "r@y.example", State.DELAYED)
    wanted = [AdminRequest(n, 1.0, "root", action, 7, number) for n, (action, number) in enumerate(
        [(Action.PARK, 1), (Action.RELEASE, 1), (Action.REMOVE, 1), (Action.RETRY, 1), (Action.RETRY, 9)]
    )]  # fmt: skip
    change = orders().carry_out(MESSAGE, [recipient], wanted, 2.0)
    assert [outcome.state for outcome in change.states] == [State.REMOVED] and numbers(change) == [0, 1, 2, 3, 4]
    assert [entry.facts["action"] for entry in change.entries] == ["park", "release", "remove"]


def ask(here: Site, action: Action, *states: State, target: str = "") -> None:
    with here.reader() as reader:
        rows = reader.queue(states)
    wanted = [AdminRequest(0, 0.0, "root", action, row.message.id, row.recipient.number, target) for row in rows]
    open_store(here.loaded.store).add_requests(wanted)
    os.kill(os.getpid(), signal.SIGUSR1)


def states(here: Site) -> list[State]:
    with here.reader() as reader:
        return [row.recipient.state for row in reader.queue(tuple(State)) if row.message.reverse_path]


async def test_with_the_server_running(folder: Path, authority: CertificateFiles) -> None:
    """Parked mail rests, released mail goes, what failed can be tried again; each once, and the journal says who."""
    rules = (
        Rule("late@*", Reply(451, "4.7.1", "later"), times=1),
        Rule("gone@*", Reply(550, "5.1.1", "no"), times=1),
    )

    async with site(folder, authority, rules=rules, clock=StoppedClock()) as here:
        await converse(here.port, talk(letter("late@x.example"), letter("gone@x.example")))
        await here.until(lambda reader: states(here) == [State.DELAYED, State.FAILED])
        await here.until_caught(1)  # the notice
        ask(here, Action.PARK, State.DELAYED)
        await here.until(lambda reader: states(here) == [State.PARKED, State.FAILED])
        here.service.dispatcher.supply.refill()
        ask(here, Action.RELEASE, State.PARKED)
        await here.until_caught(2)
        ask(here, Action.RETRY, State.FAILED)
        await here.until_caught(3)
        await here.until(lambda reader: states(here) == [State.RELAYED, State.RELAYED] and not reader.admin_requests())
        told = [
            [entry.facts["action"] for entry in record.journal if entry.event.value == "ordered"]
            for record in records(here)
        ]
        assert [actions for actions in told if actions] == [["park", "release"], ["retry"]]
        with here.reader() as reader:
            assert all(not list(reader.content(record.message.id)) for record in records(here))


async def test_what_is_on_its_way_has_its_turn_afterwards(folder: Path, authority: CertificateFiles) -> None:
    """An order does not get between an attempt and its record."""
    rules = (Rule("slow@*", Reply(451, "4.7.1", "later"), wait=0.3),)

    async with site(folder, authority, rules=rules, clock=StoppedClock()) as here:
        await converse(here.port, talk(letter("slow@x.example")))
        ask(here, Action.REMOVE, State.QUEUED)
        assert states(here) == [State.QUEUED]
        await here.until(lambda reader: states(here) == [State.REMOVED] and not reader.admin_requests())
        (record,) = records(here)
        assert [attempt.code for attempt in record.attempts] == [451] and record.recipients[0].attempts == 1
        assert not here.caught


SECOND = '[[connector]]\nname = "second"\nrecipients = ["nowhere.example"]\nhosts = ["localhost:{}"]\n'


async def test_returned_and_sent_elsewhere(folder: Path, authority: CertificateFiles) -> None:
    """What is returned fails with a notice; what is redirected goes through the other connector, or to the other."""
    rules = (Rule("late@*", Reply(451, "4.7.1", "later")),)

    (folder / "second").mkdir()

    async with smart_host(folder / "second", authority) as (hop, caught):
        extra = SECOND.format(hop) + 'trust = "ca.pem"\ncredential = "beacon"\n'
        async with site(folder, authority, rules=rules, clock=StoppedClock(), extra=extra) as here:
            await converse(here.port, talk(letter("late@x.example")))
            await here.until(lambda reader: states(here) == [State.DELAYED])
            ask(here, Action.SEND_BY, State.DELAYED, target="second")
            assert (await take(caught)).recipients == ("late@x.example",)
            await here.until(lambda reader: states(here) == [State.RELAYED])
            (record,) = records(here)
            assert (record.recipients[0].connector, record.recipients[0].next_hop) == ("second", f"localhost:{hop}")

            await converse(here.port, talk(letter("late@x.example")))
            await here.until(lambda reader: states(here) == [State.RELAYED, State.DELAYED])
            ask(here, Action.SEND_TO, State.DELAYED, target="duty@crew.example")
            assert (await here.until_caught(1))[0].recipients == ("duty@crew.example",)
            await here.until(lambda reader: states(here) == [State.RELAYED, State.REMOVED, State.RELAYED])

            await converse(here.port, talk(letter("late@x.example")))
            await here.until(lambda reader: states(here)[3:] == [State.DELAYED])
            ask(here, Action.RETURN, State.DELAYED)
            notice = (await here.until_caught(2))[1]
            assert notice.file is not None and b"An administrator gave it up" in notice.file.read_bytes()
            assert notice.reverse_path == ""
            await here.until(lambda reader: states(here)[3:] == [State.FAILED])
            with here.reader() as reader:
                assert [state.last_bad is None for state in reader.connectors() if state.name == "second"] == [True]
