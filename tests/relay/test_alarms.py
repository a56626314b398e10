"""Alarms: raised once, repeated, cleared; over a restart; by mail through another connector, and by a command."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

import pytest

from copper_kite.net.authority import CertificateFiles
from copper_kite.relay import alarms as alarms_module
from copper_kite.relay.alarms import AlarmEvent, Alarms
from copper_kite.session.standin import Caught
from copper_kite.settings.alarm import Alarm
from copper_kite.store import open_store, read_alarms
from copper_kite.words import Event, State
from tests.configuration import connector, store_of, table
from tests.looping import happens
from tests.relay.test_relay import letter, talk
from tests.support import converse, free_port, kite, running, site, write_site

T = 1_780_000_000.0


class Told:
    """What was told; each is kept at once, unless it is to be `later`."""

    def __init__(self) -> None:
        self.event: list[AlarmEvent] = []
        self.waiting: list[Callable[[], None]] = []
        self.later = False

    def __call__(self, event: AlarmEvent, done: Callable[[], None]) -> None:
        self.event.append(event)
        self.waiting.append(done)
        if not self.later:
            done()

    @property
    def changes(self) -> list[str]:
        return [event.change for event in self.event]


def watched(**more: object) -> Alarm:
    known: dict[str, object] = {"name": "jam", "when": "waiting", "to": "duty@crew.example", "again": "1h"}
    return Alarm.model_validate({**known, **more})


@pytest.fixture
def told() -> Told:
    return Told()


def started(folder: Path, told: Told, *alarms: Alarm) -> Alarms:
    result = Alarms(folder, told)
    result.take_up(alarms or [watched()])
    return result


def test_it_is_raised_once_repeated_and_cleared(folder: Path, told: Told) -> None:
    alarms = started(folder, told)
    for at in (0, 10, 3590, 3600, 3610):
        alarms.update({"jam": f"{at} wait"}, T + at)
    assert told.changes == ["raised", "repeated"]
    assert told.event[1].sentence == "For 1h now: 3600 wait"
    alarms.update({"jam": ""}, T + 7200)
    alarms.update({"jam": ""}, T + 7210)
    assert told.changes == ["raised", "repeated", "cleared"]
    assert told.event[2].sentence == "It lasted 2h. It was: 3610 wait"
    alarms.update({"jam": "again"}, T + 7220)
    assert told.changes[-1] == "raised"


def test_a_subject_has_the_gist_and_fits_into_a_line(folder: Path, told: Told) -> None:
    alarms = started(folder, told)
    alarms.update({"jam": f"connector x is down (since May); {'y' * 400}"}, T)
    assert told.event[0].subject == "Alarm jam: connector x is down"
    alarms.update({"jam": "z" * 400}, T + 3600)
    assert len(told.event[1].subject) < 150


def test_what_does_not_last_is_never_told(folder: Path, told: Told) -> None:
    alarms = started(folder, told, watched(after="5m"))
    alarms.update({"jam": "7 wait"}, T)
    alarms.update({"jam": "7 wait"}, T + 299)
    alarms.update({"jam": ""}, T + 305)
    alarms.update({"jam": "7 wait"}, T + 310)
    assert told.event == [] and read_alarms(folder)[0].notified_at is None
    alarms.update({"jam": "8 wait"}, T + 610)
    assert told.changes == ["raised"]


def test_what_nobody_knows_changes_nothing(folder: Path, told: Told) -> None:
    alarms = started(folder, told)
    alarms.update({"jam": "7 wait"}, T)
    alarms.update({}, T + 10)
    alarms.update({"jam": "7 wait"}, T + 20)
    assert told.changes == ["raised"]


def test_a_restart_neither_repeats_nor_forgets(folder: Path, told: Told) -> None:
    started(folder, told).update({"jam": "7 wait"}, T)
    later = started(folder, told)
    later.update({"jam": "7 wait"}, T + 60)
    assert told.changes == ["raised"]
    later.update({"jam": ""}, T + 70)
    assert told.changes == ["raised", "cleared"] and read_alarms(folder) == []


def test_it_counts_as_told_only_when_that_is_kept(folder: Path, told: Told) -> None:
    told.later = True
    alarms = started(folder, told)
    alarms.update({"jam": "7 wait"}, T)
    alarms.update({"jam": "7 wait"}, T + 10)
    assert told.changes == ["raised"] and read_alarms(folder)[0].notified_at is None
    started(folder, told).update({"jam": "7 wait"}, T + 20)  # the server was killed in between
    assert told.changes == ["raised", "raised"]
    told.waiting[1]()
    assert read_alarms(folder)[0].notified_at == T + 20


def test_an_alarm_that_is_taken_away_is_forgotten(folder: Path, told: Told) -> None:
    alarms = started(folder, told)
    alarms.update({"jam": "7 wait"}, T)
    alarms.take_up([watched(enabled=False)])
    alarms.update({"jam": ""}, T + 10)
    assert told.changes == ["raised"] and read_alarms(folder) == []
    alarms.send_test("jam", T)
    assert told.changes == ["raised"]


def alarm(name: str, **keys: object) -> str:
    return "\n" + table("[[alarm]]", name=name, **keys)


def content(caught: Caught) -> bytes:
    assert caught.file is not None
    return caught.file.read_bytes()


async def test_the_alarm_about_a_connector_goes_by_another(folder: Path, authority: CertificateFiles) -> None:
    """Raised and cleared by the second connector, while the first one is down."""
    down = connector("harbour", f"localhost:{free_port()}", tls="off", recipients=["harbour.example"])
    watch = alarm("failing", when="connector_failing", limit="1s", to="duty@harbour.example", connector="beacon")
    async with site(folder, authority, extra=down + watch) as here:
        await converse(here.port, talk(letter("ana@harbour.example")))
        await here.until(lambda reader: reader.lanes())
        stop = here.reader().lanes()[0]
        here.service.monitoring._on_message({"alarms": {"failing": f"connector harbour: {stop.text}"}})
        (mail,) = await here.until_caught(1)
        assert mail.recipients == ("duty@harbour.example",)
        assert b"Subject: Alarm failing: connector harbour: connection refused\r\n" in content(
            mail
        ) and b"connector harbour" in content(mail)
        await happens(lambda: read_alarms(here.loaded.data)[0].notified_at is not None)
        here.service.monitoring._on_message({"alarms": {"failing": ""}})
        assert b"Subject: Alarm failing is over\r\n" in content((await here.until_caught(2))[1])
        assert [entry.facts["alarm"] for entry in here.reader().noted(Event.ALARM, 0.0)] == ["failing"] * 2
        await here.until(lambda reader: [row.recipient.address for row in reader.queue()] == ["ana@harbour.example"])


async def test_the_connector_of_an_alarm_survives_a_restart(folder: Path, authority: CertificateFiles) -> None:
    watch = alarm("jam", when="waiting", to="duty@harbour.example", connector="spare")
    spare = connector("spare", f"localhost:{free_port()}", tls="off", recipients=["nobody.example"])
    async with site(folder, authority, extra=spare + watch) as here:
        here.service.monitoring._on_message({"alarms": {"jam": "7 wait"}})
        await here.until(lambda reader: [row.recipient.via for row in reader.queue()] == ["spare"])
        assert here.caught == []


async def test_a_command_gets_the_facts_and_is_ended_when_it_lasts(
    folder: Path, authority: CertificateFiles, monkeypatch: pytest.MonkeyPatch
) -> None:
    out = folder / "facts"
    writes = alarm("jam", when="waiting", command=f"cat > {out}.new; mv {out}.new {out}")
    log = table("[log]", to="file:kite.log")
    async with site(folder, authority, extra=writes + alarm("slow", when="surge", command="sleep 600") + log) as here:
        here.service.monitoring._on_message({"alarms": {"jam": "7 wait"}})
        await happens(out.exists)
        facts = json.loads(out.read_text())
        assert (facts["alarm"], facts["change"], facts["text"]) == ("jam", "raised", "7 wait")
        await here.until(lambda reader: reader.noted(Event.ALARM, 0.0))
        monkeypatch.setattr(alarms_module, "COMMAND_SECONDS", 0.05)
        here.service.monitoring._on_message({"alarms": {"slow": "x"}})
        await happens(lambda: "took over" in (folder / "kite.log").read_text())


def test_the_whole_program_raises_and_shows_and_tries_an_alarm(folder: Path) -> None:
    """With nobody to relay to: what waits raises it, the status shows it and says so by its exit."""
    extra = alarm("jam", when="waiting", limit=0, to="duty@crew.example") + alarm(
        "later", when="surge", to="a@b.example"
    )
    config = write_site(folder, free_port(), tls="off", extra=extra)
    with running(config):
        assert kite("alarm", "test", "later", config=config).returncode == 0
        assert b"did you mean" in kite("alarm", "test", "latter", config=config).stderr.lower()
        for _ in range(200):
            status = kite("status", "--json", config=config)
            if json.loads(status.stdout)["alarms"]:
                break
        shown = json.loads(status.stdout)["alarms"]
        assert [item["name"] for item in shown] == ["jam"] and status.returncode == 1
        brief = kite("status", "--brief", config=config).stdout.decode()
        assert brief.count("\n") == 1 and "alarm jam" in brief
        listed = json.loads(kite("alarm", "list", "--json", config=config).stdout)
        assert [(item["name"], item["raised_since"] is not None) for item in listed] == [
            ("jam", True),
            ("later", False),
        ]
        with open_store(store_of(folder / "queue")).reader() as reader:
            subjects = {row.recipient.address for row in reader.queue((State.QUEUED, State.DELAYED))}
        assert subjects == {"duty@crew.example", "a@b.example"}
