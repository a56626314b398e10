"""Dialogues that an administrator has recorded, of sessions that go well: with no secret in them, and no more than told."""

from __future__ import annotations

import asyncio
import json
import smtplib
import ssl
import time
from pathlib import Path

import pytest

from copper_kite.net.authority import CertificateFiles
from copper_kite.net.dialogue import Dialogue
from copper_kite.relay import recordings as recordings_module
from copper_kite.relay.recordings import MOST_LINES, MOST_TEXT, Recordings, kept_lines
from copper_kite.store import Record, Recording, id_text, read_recordings, write_recordings
from copper_kite.trace.journal import dialogue_entries
from copper_kite.trace.sought import Sought
from copper_kite.words import Event
from tests.relay.test_accounts import WORDS, with_accounts
from tests.relay.test_relay import ended, records, story
from tests.support import PASSWORD, free_port, kite, running, site, write_site


def connected(port: int, authority: CertificateFiles) -> smtplib.SMTP:
    session = smtplib.SMTP("localhost", port)
    session.starttls(context=ssl.create_default_context(cafile=authority.authority))
    return session


async def test_both_sides_of_a_message_are_kept(folder: Path, authority: CertificateFiles) -> None:
    """With a login on each; of a second message of a session, and of a session that hands nothing in."""
    port = free_port()

    def hand_in() -> None:
        with connected(port, authority) as session:
            session.login("ticketing", WORDS)
            for number in range(2):
                session.sendmail("t@ternferries.example", [f"r{number}@x.example"], b"Subject: x\r\n\r\nthe body\r\n")
        with connected(port, authority) as session, pytest.raises(smtplib.SMTPAuthenticationError):
            session.login("ticketing", "WordsThatAreWrong")

    async with site(folder, authority, extra=with_accounts(folder, authority, port)) as here:
        await asyncio.to_thread(hand_in)
        await here.until(ended(2))
        until = time.time() + 600
        wanted = [Recording("listener", "others", until), Recording("connector", "beacon", until)]
        write_recordings(here.loaded.data, wanted)
        here.service.dispatcher.carry_out_requests()
        await asyncio.to_thread(hand_in)
        await here.until(ended(4))
        await here.until(lambda reader: len(reader.noted(Event.DIALOGUE, 0.0)) == 3)
        with here.reader() as reader:
            alone = [entry for entry in reader.noted(Event.DIALOGUE, 0.0) if entry.message is None]
        before, later = records(here)[:2], records(here)[2:]
        assert all(attempt.dialogue is None for record in before for attempt in record.attempts)
        for record in later:
            (attempt,) = record.attempts
            said = [text for _, _, text in attempt.dialogue or ()]
            assert any(text.startswith("AUTH ") for text in said) and said[-1].startswith("250 2.0.0")
            (submission,) = story(here, record).submissions
            lines = [f"{mark} {text}" for _, mark, text in submission.facts["lines"]]
            assert lines[0].startswith("server 220") and "CLIENT DATA" in [line.upper() for line in lines]
            assert sum(line.lower().startswith("client mail from") for line in lines) == 1, "none but its own"
            assert lines[-1] == f"server 250 2.0.0 kept as {shown_id(record)}"
            assert any(line.startswith("note content heard") for line in lines)
        (refused,) = alone
        assert any("535" in text for _, _, text in refused.facts["lines"])
        everything = json.dumps(
            [entry.facts for entry in alone]
            + [entry.facts for record in later for entry in record.journal]
            + [attempt.dialogue for record in later for attempt in record.attempts]
        )
        for secret in (WORDS, "WordsThatAreWrong", PASSWORD, "the body"):
            assert secret not in everything
        sought = Sought(words=("MAIL FROM",), any_case=True)
        result = [item for item in dialogue_entries(here.loaded.store, "quay1", sought) if sought.holds(item)]
        assert {item.id for item in result} == {shown_id(record) for record in later} and len(result) == 4


def shown_id(record: Record) -> str:
    return id_text(record.message.id)


def test_no_more_is_kept_than_there_is_room_for(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Bounded in number, in lines and in time; a new command counts anew, and one for another leaves this one alone."""
    monkeypatch.setattr(recordings_module, "MOST_DIALOGUES", 3)
    now = 1000.0
    write_recordings(folder, [Recording("connector", "beacon", 1500.0)])
    assert (folder / "recordings.json").stat().st_mode & 0o777 == 0o600
    recordings = Recordings(folder, lambda: now)
    assert [recordings.keeps("connector", "beacon") for _ in range(4)] == [True, True, True, False]
    assert not recordings.wants("listener", "beacon")
    write_recordings(folder, [Recording("connector", "beacon", 1500.0), Recording("listener", "programs", 1200.0)])
    recordings.read()
    assert not recordings.wants("connector", "beacon") and recordings.wants("listener", "programs")
    now = 1300.0
    assert not recordings.wants("listener", "programs") and len(read_recordings(folder, now)) == 1
    write_recordings(folder, [Recording("connector", "beacon", 1600.0)])
    recordings.read()
    assert recordings.wants("connector", "beacon")
    (folder / "recordings.json").write_text('[["connector"]]')
    recordings.read()
    assert not recordings.wants("connector", "beacon")
    dialogue = Dialogue(0.0)
    for number in range(MOST_LINES * 2):
        dialogue.noted(float(number), f"{number} {'x' * 2 * MOST_TEXT}")
    kept = kept_lines(dialogue)
    assert len(kept) == MOST_LINES and kept[-1][2].startswith(str(2 * MOST_LINES - 1)) and len(kept[0][2]) == MOST_TEXT


def test_the_commands(folder: Path) -> None:
    """`record` for a while, which `status` tells; a running server takes it up at once; and it stops."""
    config = write_site(folder, free_port(), tls="off")
    wrong = kite("listener", "record", "program", config=config)
    assert wrong.returncode == 2 and b"did you mean 'programs'?" in wrong.stderr
    with running(config):
        assert kite("listener", "record", "programs", "--for", "10m", config=config).returncode == 0
        told = json.loads(kite("status", "--json", config=config).stdout)["recordings"]
        assert [(event["table"], event["name"]) for event in told] == [("listener", "programs")]
        assert b"dialogues of listener programs are recorded for another 9m" in kite("status", config=config).stdout
        assert kite("listener", "record", "programs", "--stop", config=config).returncode == 0
        assert b"recorded" not in kite("status", config=config).stdout
