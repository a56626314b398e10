"""What a story tells beside the attempts: the choice of a connector, waits, and when no server ran."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from copper_kite.settings.model import Connector
from copper_kite.store import (
    AddMessage,
    Attempt,
    AttemptFacts,
    IdMaker,
    JournalEntry,
    Message,
    Recipient,
    RecipientResult,
    Record,
    RecordAttempt,
    WriteEntry,
    open_store,
)
from copper_kite.trace.journal import entries
from copper_kite.trace.linemap import Entry
from copper_kite.trace.pulse import Pulse
from copper_kite.trace.story import tell
from copper_kite.words import Event, State
from tests.support import kite, whole, write_site

T0 = 1_800_000_000.0
MESSAGE = Message(7, T0, T0 + 5e5, "a@y.example", 4, False, False, "<m>", "programs", "unix", "h", "", "ESMTP")
CONNECTORS = [
    Connector(name="beacon", hosts=["out.example:587"]),
    Connector(name="harbour", recipients=["office.example"], hosts=["gate.example:465"]),
]


def attempt(at: float, state: State, reply: str) -> Attempt:
    facts = AttemptFacts([RecipientResult("r@x.example", state.value, "accept", reply)])
    return Attempt(
        int(at),
        7,
        at,
        0.0,
        "beacon",
        "out.example:587",
        "",
        "accept",
        "next hop",
        "reply",
        451,
        "4.7.1",
        "",
        facts,
        None,
    )


def story(
    recipient: Recipient, *attempts: Attempt, stops: tuple[tuple[float, float], ...] = ()
) -> list[tuple[str, str]]:
    record = Record(MESSAGE, [recipient], list(attempts), [])
    return [(line.what, line.text) for line in tell(record, {}, running=True, connectors=CONNECTORS, stops=stops).lines]


@pytest.mark.parametrize(
    ("recipient", "told"),
    [
        (Recipient(7, 1, "r@x.example", connector="beacon"), "connector beacon: * fits best"),
        (Recipient(7, 1, "r@office.example", connector="harbour"), "connector harbour: office.example fits best"),
        (Recipient(7, 1, "r@x.example", connector="old"), "connector old: by the configuration of then; today it is beacon"),
        (Recipient(7, 1, "r@x.example", connector="harbour", via="harbour"), "connector harbour: an administrator chose it"),
        (Recipient(7, 1, "r@x.example"), None),
    ],
)  # fmt: skip
def test_why_this_connector(recipient: Recipient, told: str | None) -> None:
    assert ("chosen", told) in story(recipient) if told else "chosen" not in dict(story(recipient))


def test_waits_are_told_and_why() -> None:
    """Between two things that happened; what of it was while no server ran."""
    relayed = Recipient(7, 1, "r@x.example", State.RELAYED, connector="beacon")
    attempts = (attempt(T0 + 0.5, State.DELAYED, "451 later"), attempt(T0 + 3700, State.RELAYED, "250 ok"))
    assert [line for line in story(relayed, *attempts) if line[0] == "waited"] == [("waited", "1h 1m")]
    stopped = ((T0 + 100, T0 + 3600), (T0 + 9000, T0 + 9001))
    waited = dict(story(relayed, *attempts, stops=stopped))["waited"]
    assert waited == "1h 1m, 58m 20s of it while no server ran"


def test_when_no_server_ran(folder: Path) -> None:
    """From the stop to the next start; of a server that was killed, from its last sign of life."""
    ids = IdMaker()
    id = ids.next(T0 + 50)
    journal = [
        JournalEntry(at=at, event=event)
        for at, event in (
            (T0, Event.STARTED),
            (T0 + 10, Event.STOPPED),
            (T0 + 40, Event.STARTED),
            (T0 + 90, Event.STARTED),
        )
    ]
    message = MESSAGE._replace(id=id, arrived=T0 + 50)
    open_store(folder).write([[AddMessage(message, (), None), *map(WriteEntry, journal)]])
    with open_store(folder).reader() as reader:
        assert reader.stops(T0) == [(T0 + 10, T0 + 40), (T0 + 50, T0 + 90)]
        assert reader.stops(T0 + 95) == []


def test_what_happened_comes_in_the_order_of_its_end(folder: Path) -> None:
    """Read in the order of beginnings, without holding more than what is under way."""
    ids = IdMaker()
    attempts = [
        attempt(T0, State.DELAYED, "451 x")._replace(id=ids.next(T0 + at), at=T0 + at, seconds=took)
        for at, took in ((0, 50.0), (10, 1.0), (70, 0.0))
    ]
    journal = [JournalEntry(at=T0 + at, event=Event.STARTED) for at in (60, 30)]
    message = MESSAGE._replace(id=ids.next(T0 + 80), arrived=T0 + 80)
    open_store(folder).write(
        [[AddMessage(message, (), None), *map(RecordAttempt, attempts), *map(WriteEntry, journal)]]
    )
    history = open_store(folder).history()
    told = [entry.at for happened in history.between(T0 - 1, T0 + 100) for entry in entries(happened, "quay1")]
    assert told == [T0 + at for at in (11, 30, 50, 60, 70, 80)]
    history.close()


def test_the_pulse_of_the_last_minute() -> None:
    """Counts what was seen then, and forgets it; the latest replies stay."""
    pulse = Pulse(latest=2)
    entries = [
        Entry(T0, "journal", "", outcome=word, recipient="r") for word in ("accepted", "relayed", "failed", "notice")
    ]
    pulse.add(entries, T0)
    pulse.add([Entry(None, "journal", "", outcome="relayed", recipient="r")], T0 + 30)
    assert pulse.counts(T0 + 59) == {"accepted": 1, "relayed": 2, "delayed": 0, "failed": 1}
    assert pulse.counts(T0 + 60) == {"accepted": 0, "relayed": 1, "delayed": 0, "failed": 0}
    assert [entry.outcome for entry in pulse.latest] == ["failed", "relayed"]


def test_the_queue_watched(folder: Path) -> None:
    """One object a line, or one line; and an end after so many looks."""
    config = write_site(folder, 2525, tls="off")
    change = whole(MESSAGE, [Recipient(7, 1, "r@x.example", State.PARKED)], b"x")
    open_store(folder / "queue").write([change])
    looks = kite("queue", "watch", "--json", "--times", "2", "--every", "0.1s", config=config).stdout.splitlines()
    assert [json.loads(look)["states"] for look in looks] == [{"parked": 1}] * 2
    shown = kite("queue", "watch", "--times", "1", config=config).stdout
    assert b"parked 1  |  in the last minute: accepted 0" in shown
