"""What a story tells beside the attempts: the choice of a connector, waits, and when no server ran."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path
from typing import Any

from copper_kite.store import (
    AddMessage,
    Attempt,
    AttemptFacts,
    AttemptNow,
    CarrierThen,
    IdMaker,
    JournalEntry,
    LaneNow,
    Message,
    PassedOverHop,
    Recipient,
    RecipientResult,
    Record,
    RecordAttempt,
    SessionFacts,
    TriedAddress,
    WriteEntry,
    open_store,
)
from copper_kite.trace.journal import journal_entries
from copper_kite.trace.linemap import Entry
from copper_kite.trace.pulse import Pulse
from copper_kite.trace.running import attempt_of
from copper_kite.trace.story import tell_story
from copper_kite.words import Event, State
from tests.configuration import store_of
from tests.support import kite, whole, write_site

T0 = 1_800_000_000.0
MESSAGE = Message(7, T0, T0 + 5e5, "a@y.example", 4, False, False, "<m>", "programs", "unix", "h", "", "ESMTP")
BEACON = CarrierThen("beacon", True, 20, ["*"], ["*"])
HARBOUR = CarrierThen("harbour", True, 20, ["office.example"], ["*"])


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
    record = Record(MESSAGE, [recipient], list(attempts), [], [(0.0, [BEACON, HARBOUR])])
    return [(line.what, line.text) for line in tell_story(record, {}, running=True, stops=stops).lines]


def chosen(record: Record) -> list[tuple[float, str]]:
    """When which connector was chosen, in seconds after the message came."""
    return [(line.at - T0, line.text) for line in tell_story(record, {}, running=True).lines if line.what == "chosen"]


def test_why_this_connector() -> None:
    """By the configuration that there was, when it was: neither today's, nor what an administrator did later."""
    ana, bo = Recipient(7, 1, "ana@x.example"), Recipient(7, 2, "bo@office.example")
    before, later = (T0 - 50, [BEACON, HARBOUR]), (T0 + 60, [BEACON])
    told = [(0, "connector beacon for ana@x.example: * fits best"),
            (0, "connector harbour for bo@office.example: office.example fits best")]  # fmt: skip
    assert chosen(Record(MESSAGE, [ana, bo], [], [], [before])) == told
    moved = [*told, (60, "connector beacon for bo@office.example: * fits best")]
    assert chosen(Record(MESSAGE, [ana, bo], [], [], [before, later])) == moved
    gone = bo._replace(state=State.RELAYED, changed=T0 + 5, connector="harbour")
    assert chosen(Record(MESSAGE, [ana, gone], [], [], [before, later])) == told, "it had left before the change"
    facts = {"action": "send by", "who": "root", "recipients": ["ana@x.example"], "to": "harbour"}
    ordered = [JournalEntry(at=T0 + 30, event=Event.ORDERED, message=7, facts=facts)]
    redirected = ana._replace(via="harbour", connector="harbour")
    assert chosen(Record(MESSAGE, [redirected, bo], [], ordered, [before])) == told
    assert chosen(Record(MESSAGE, [ana], [], [], [])) == [], "nothing is known of the time before"
    assert chosen(Record(MESSAGE, [ana], [], [], [(T0 - 1, [HARBOUR])])) == []
    assert chosen(Record(MESSAGE, [ana], [], [], [(T0 - 1, [HARBOUR]), later])) == [
        (60, "connector beacon: * fits best")
    ]


def test_a_redirect_does_not_change_what_was_accepted() -> None:
    """Whom it was for is told as it was then."""
    two = [Recipient(7, number, f"{name}@x.example") for number, name in ((1, "ana"), (2, "bo"))]
    facts = {"action": "send to", "who": "root", "recipients": ["ana@x.example"], "to": "cy@x.example", "added": [3]}
    ordered = JournalEntry(at=T0 + 30, event=Event.ORDERED, message=7, facts=facts)
    record = Record(MESSAGE, [*two, Recipient(7, 3, "cy@x.example")], [], [ordered])
    assert tell_story(record, {}, running=True).lines[0].text.endswith("for 2 recipients")


def way(recipient: str, next_hop: str, **session: Any) -> Attempt:
    """An attempt that relayed."""
    facts = AttemptFacts(
        [RecipientResult(recipient, "relayed", "accept", f"250 ok {recipient}")], SessionFacts(**session)
    )
    return attempt(T0 + 1, State.RELAYED, "")._replace(next_hop=next_hop, facts=facts, connector=next_hop.split(".")[0])


def test_each_way_is_told_by_itself() -> None:
    """Two connectors, one of them under TLS: neither answers for what the other took."""
    names = ("ana@x.example", "bo@y.example", "cy@y.example")
    recipients = [Recipient(7, number, name, State.RELAYED) for number, name in enumerate(names, 1)]
    attempts = [
        way(names[0], "beacon.example:587", tls="TLSv1.3", cipher="C", login="tern", trust="system"),
        way(names[1], "direct.example:25", tls="TLSv1.2", cipher="D", trust="unverified"),
        way(names[2], "plain.example:25"),
    ]
    verdict = tell_story(Record(MESSAGE, recipients, attempts, []), {}, running=True).verdict
    for told in (
        "Relayed for ana@x.example: beacon.example:587 has taken it over (TLSv1.3 C, logged in as tern)",
        "Relayed for bo@y.example: direct.example:25 has taken it over (TLSv1.2 D, certificate not verified)",
        "Relayed for cy@y.example: plain.example:25 has taken it over (no TLS)",
    ):
        assert told in verdict.meaning
    assert verdict.evidence == "; ".join(f"250 ok {name}" for name in names)
    assert verdict.advice.endswith("beacon.example or direct.example or plain.example")


def test_whom_an_attempt_passed_over_or_tried_in_vain_is_told() -> None:
    """A next hop that was known to be down, an address that gave no session; and the end of an attempt only once."""
    down = PassedOverHop("one.example:587", "192.0.2.1", "login", "reply", "535 5.7.8 no", T0 - 60)
    tried = TriedAddress("two.example:587", "2001:db8::2", "connect", "unreachable", "network is unreachable")
    session = {"tried": [tried], "passed_over": (down,)}
    relayed = way("ana@x.example", "two.example:587", **session)._replace(address="192.0.2.2", connector="beacon")
    recipient = Recipient(7, 1, "ana@x.example", State.RELAYED)
    lines = {
        line.what: line for line in tell_story(Record(MESSAGE, [recipient], [relayed], []), {}, running=True).lines
    }
    passed = lines["passed over"]
    assert (passed.stage, passed.who, passed.code) == ("login", "beacon → one.example:587", "535 5.7.8")
    assert passed.text.startswith("no (down since ")
    told = lines["tried"].who, lines["tried"].text
    assert told == ("beacon → two.example:587", "2001:db8::2: network is unreachable")
    failed = TriedAddress("two.example:587", "192.0.2.2", "connect", "connection refused", "connection refused")
    facts = AttemptFacts(
        [RecipientResult("ana@x.example", "delayed", "connect", "")], SessionFacts(tried=[tried, failed])
    )
    delayed = relayed._replace(facts=facts, text="connection refused", cause="connection refused")
    waits = recipient._replace(state=State.DELAYED)
    told = [line.what for line in tell_story(Record(MESSAGE, [waits], [delayed], []), {}, running=True).lines]
    assert told.count("tried") == 1 and "delayed" in told


def test_a_running_attempt_is_told() -> None:
    """Since when, with whom, how far; its own, or the one that opens a session for those who wait."""
    recipient = Recipient(7, 1, "ana@x.example", connector="beacon")
    record = Record(MESSAGE, [recipient], [], [])
    own = AttemptNow(7, T0 + 2, "two.example:587", "192.0.2.2", "accept")
    opening = AttemptNow(0, T0 + 1, "one.example:587", "", "connect")
    lanes = [LaneNow("beacon", "", 0, 5, 5, (), (AttemptNow(8, T0, "x:25", "", "login"), opening))]
    assert attempt_of(lanes, MESSAGE, [recipient]) == opening
    assert attempt_of([replace(lanes[0], attempts=(opening, own))], MESSAGE, [recipient]) == own
    assert attempt_of(lanes, MESSAGE, [recipient._replace(connector="harbour")]) is None
    assert attempt_of(lanes, MESSAGE, [recipient._replace(state=State.DELAYED)]) is None
    story = tell_story(record, {}, running=True, attempt=opening, now=T0 + 41)
    line = story.lines[-1]
    assert (line.what, line.stage, line.text) == ("running", "connect", "a session is being opened, for 40s")
    assert "one.example:587" in story.verdict.meaning and "stage connect" in story.verdict.meaning
    handed = tell_story(record, {}, running=True, attempt=own, now=T0 + 5).verdict
    assert handed.meaning.startswith("It is being handed to two.example:587 (192.0.2.2)") and "3s" in handed.evidence


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
    told = [entry.at for happened in history.between(T0 - 1, T0 + 100) for entry in journal_entries(happened, "quay1")]
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
    open_store(store_of(folder / "queue")).write([change])
    looks = kite("queue", "watch", "--json", "--times", "2", "--every", "0.1s", config=config).stdout.splitlines()
    assert [json.loads(look)["states"] for look in looks] == [{"parked": 1}] * 2
    shown = kite("queue", "watch", "--times", "1", config=config).stdout
    assert b"parked 1  |  in the last minute: accepted 0" in shown
