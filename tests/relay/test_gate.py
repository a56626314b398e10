"""Who may submit what, and how much; what is refused, and where that can be read."""

from __future__ import annotations

import asyncio
import base64
import json
import math
import time
from base64 import b64encode
from collections.abc import Callable
from pathlib import Path
from types import SimpleNamespace

import pytest

from copper_kite.monitoring import Totals, take_readings
from copper_kite.net.authority import CertificateFiles
from copper_kite.relay.admission import AdmissionControl, Reservation
from copper_kite.relay.gate import FAILURES, Client, Gate
from copper_kite.relay.refusals import MAX_KINDS, Refusal, Refusals
from copper_kite.relay.usage import Usage
from copper_kite.settings.load import load_configuration
from copper_kite.settings.model import Account, Guard
from copper_kite.smtp.sasl import ScramKey, Secret
from copper_kite.store import Transaction, WriteEntry
from copper_kite.words import Event
from tests.configuration import connector, site_text
from tests.relay.test_relay import LETTER, letter, talk
from tests.support import JumpingClock, Site, codes, converse, free_port, kite, site

HOUR = 3600.0
NOON = 1_800_014_400.0  # at the turn of an hour
WORDS = "low-tide-at-six"


class Time:
    def __init__(self) -> None:
        self.now = NOON


def gate(
    time: Time, account: Account | None = None, guard: Guard | None = None, history: list[tuple[int, int]] | None = None
) -> tuple[Gate, list[str]]:
    alarms: list[str] = []
    made = Gate(
        Usage(lambda who, since: history or []),
        lambda: time.now,
        lambda who, text: alarms.append(text),
        lambda: time.now,
    )
    made.renew([account] if account else [], guard or Guard())
    return made, alarms


def test_an_account_sends_as_whom_it_may_and_to_whom_it_may() -> None:
    """S-35."""
    account = Account(
        name="ticketing", senders=["booking@t.example", "*.t.example"], recipients=["*.passenger.example"]
    )
    made, _ = gate(Time(), account)
    client = Client("192.0.2.7", "", "ticketing")
    for path, refused in (("booking@t.example", False), ("x@a.t.example", False), ("", False), ("x@t.example", True)):
        assert (made.sender(client, path) is not None) == refused
    assert str(made.sender(client, "x@y.example")) == "550 5.7.1 account ticketing may not send as <x@y.example>"
    assert made.recipient(client, "a@b.passenger.example", 0) is None
    assert (
        str(made.recipient(client, "a@crew.example", 0))
        == "550 5.7.1 account ticketing may not send to <a@crew.example>"
    )
    assert made.authors(client, ["booking@t.example"]) is None and made.authors(client, ["booking@t.example", "e@x"])
    assert made.sender(Client("192.0.2.7"), "x@y.example") is None, "who needs no login is not an account"
    made.renew([], Guard())
    for path in ("booking@t.example", ""):
        assert str(made.sender(client, path)) == "550 5.7.1 account ticketing is disabled", (
            "at once, in open sessions too"
        )


def test_an_account_logs_in_from_where_it_may() -> None:
    account = Account.model_validate({"name": "ticketing", "networks": ["192.0.2.0/28", "2001:db8::/32"]})
    made, _ = gate(Time(), account)
    for address, may in (("192.0.2.7", True), ("::ffff:192.0.2.7", True), ("192.0.2.17", False), ("2001:db8::9", True)):
        assert made.may_log_in("ticketing", address) is may
    assert not made.may_log_in("nobody", "192.0.2.7")


def test_failed_logins_have_to_wait_from_there_alone() -> None:
    """A-09: and only for a while."""
    time = Time()
    made, _ = gate(time, Account(name="ticketing"))
    for _ in range(FAILURES):
        assert not made.must_wait("ticketing", "192.0.2.7")
        made.login_ended("ticketing", "192.0.2.7", good=False)
    assert made.must_wait("ticketing", "192.0.2.7")
    assert not made.must_wait("ticketing", "192.0.2.8") and not made.must_wait("rota", "192.0.2.7")
    time.now += HOUR
    assert not made.must_wait("ticketing", "192.0.2.7")
    made.login_ended("ticketing", "192.0.2.7", good=False)
    assert not made.must_wait("ticketing", "192.0.2.7")


def test_what_exceeds_an_allowance_is_put_off() -> None:
    """Counted with what the queue remembers; the next period lets it through."""
    time = Time()
    account = Account.model_validate({"name": "ticketing", "allowance": ["10/hour", "1000/day"]})
    made, _ = gate(time, account, history=[(int(NOON // HOUR), 7)])
    client = Client("192.0.2.7", "", "ticketing")
    assert made.recipient(client, "a@x.example", 2) is None
    made.usage.took(client.who, 3, int(time.now // HOUR))
    reply = made.recipient(client, "a@x.example", 0)
    assert reply is not None and str(reply).startswith(
        "450 4.7.1 account ticketing has used up its allowance of 10/hour"
    )
    assert made.recipient(Client("192.0.2.7"), "a@x.example", 0) is None
    time.now += HOUR
    assert made.recipient(client, "a@x.example", 9) is None
    assert made.recipient(client, "a@x.example", 10) is not None


def test_a_program_gone_wild_is_slowed_and_told_of_once_an_hour() -> None:
    """Each sender by itself: far more than its busiest hour of two weeks, and more than anybody may."""
    time, this = Time(), int(NOON // HOUR)
    guard = Guard(surge=3.0, at_least=20)
    made, alarms = gate(time, guard=guard, history=[(this - 30, 10), (this - 400, 500), (this, 29)])
    client = Client("", "www-data")
    assert made.recipient(client, "a@x.example", 0) is None
    for _ in range(3):
        reply = made.recipient(client, "a@x.example", 1)
        assert str(reply) == (
            "450 4.7.1 user www-data has sent 30 in this hour, and never more than 10 before: it is slowed down"
        )
    assert len(alarms) == 1
    time.now += HOUR
    assert made.recipient(client, "a@x.example", 80) is None, "what it sent in that hour is what it sends now"
    made, alarms = gate(time, guard=guard)
    assert made.recipient(Client("", "new"), "a@x.example", 19) is None
    assert made.recipient(Client("", "new"), "a@x.example", 20) is not None


async def test_a_flood_of_refusals_is_few_entries() -> None:
    """Bounded, and none is lost from the count."""
    written: list[Transaction] = []

    refusals = Refusals(written.append, lambda: NOON, lambda refusal, count: None)
    for number in range(5000):
        refusals.note(Refusal("programs", f"192.0.2.{number % 1000}", "recipient", "550 5.7.1 no"), hello="x")
    refusals.flush()
    refusals.flush()
    (change,) = written
    entries = [operation.entry for operation in change if isinstance(operation, WriteEntry)]
    assert len(entries) == MAX_KINDS + 1
    assert sum(entry.facts["count"] for entry in entries) == 5000


def test_a_disk_that_is_nearly_full_puts_mail_off(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """S-19, Q-05: also for what a message says its size is; and as soon as there is room again, it goes on."""
    backlog, free = SimpleNamespace(begun=math.inf, octets=7, settled=7), [1000]
    monkeypatch.setattr("shutil.disk_usage", lambda path: type("Usage", (), {"free": free[0]})())
    short: list[int] = []
    room = AdmissionControl(folder, backlog, lambda: short.append(free[0]))
    room.keep_free = 500
    assert room.refusal(0) is None and room.refusal(500) is None
    assert str(room.refusal(501)).startswith("452 4.3.1")
    backlog.octets += 400  # written since the disk was asked
    assert room.refusal(100) is None and str(room.refusal(101)).startswith("452 4.3.1")
    monkeypatch.setattr("copper_kite.relay.admission.LOOK_AGAIN", -1.0)
    free[0] = 499
    assert str(room.refusal(0)).startswith("452 4.3.1")
    assert short == [499], "whoever can make room hears of it"
    free[0] = 501
    assert str(room.refusal(0)).startswith("452 4.3.1"), "400 octets are still on their way there"
    backlog.settled = backlog.octets
    assert room.refusal(0) is None
    backlog.begun = time.monotonic() - 121
    assert str(room.refusal(0)).startswith("451 4.3.0"), "whatever is written now takes longer than anybody would wait"
    room.longest_wait = 600.0
    assert room.refusal(0) is None


def test_what_was_promised_to_one_is_not_promised_to_another(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """S-19: sizes that were said, and content that comes without one, of all sessions together."""
    backlog = SimpleNamespace(begun=math.inf, octets=0, settled=0)
    monkeypatch.setattr("shutil.disk_usage", lambda path: SimpleNamespace(free=1000 - backlog.octets))
    monkeypatch.setattr("copper_kite.relay.admission.UNSAID", 0)
    room = AdmissionControl(folder, backlog, lambda: None)
    room.keep_free = 200
    first, second, third = Reservation(room), Reservation(room), Reservation(room)
    assert first.begin(500) is None
    assert str(second.begin(301)).startswith("452 4.3.1") and second.begin(300) is None
    assert third.begin(None) is None and str(third.need(1)).startswith("452 4.3.1")
    backlog.octets += 100  # a portion of the first one's is on the disk
    first.spent(100)
    assert room.reserved == 700 and third.need(1) is not None, "nothing was won by that"
    second.end()
    assert third.need(300) is None and third.need(300) is None and third.need(301) is not None
    for item in (first, second, third):
        item.end()
        item.end()
    assert room.reserved == 0 and first.begin(600) is None
    monkeypatch.setattr("copper_kite.relay.admission.UNSAID", 60)
    assert second.begin(41) is not None and second.begin(40) is None and second.need(100) is None, "with what we add"
    assert third.begin(None) is not None


# --- the whole way ---------------------------------------------------------------------------------------------------


def accounts(here: Site, text: str) -> None:
    path = here.loaded.path
    path.write_text(path.read_text() + text)
    keys = path.parent / "accounts.toml"
    keys.touch(mode=0o600)
    keys.write_text(f'[ticketing]\nkey = "{ScramKey.make(Secret(WORDS), b"salt" * 4)}"\n')


LOGIN = b"EHLO t\r\nAUTH PLAIN " + base64.b64encode(f"\0ticketing\0{WORDS}".encode()) + b"\r\n"


async def said(here: Site, octets: bytes) -> list[bytes]:
    return codes(await converse(here.port, octets + b"QUIT\r\n"))


async def test_an_account_with_bounds(folder: Path, authority: CertificateFiles) -> None:
    """S-35: in the envelope, in From and in Sender; and what was refused is in the journal, by client and reason."""
    bounds = '[[account]]\nname = "ticketing"\nsenders = ["t@ternferries.example"]\nrecipients = ["x.example"]\n'

    async with site(folder, authority) as here:
        accounts(here, bounds)
        text = here.loaded.path.read_text().replace('name = "programs"\n', 'name = "programs"\nlogin = "optional"\n')
        here.loaded.path.write_text(text)
        await here.service.reload(load_configuration(here.loaded.path))

        def one(sender: str, recipient: str, author: str = "t@ternferries.example") -> bytes:
            return LOGIN + letter(recipient, sender=sender, content=f"From: {author}\r\n".encode() + LETTER)

        good = await said(here, one("t@ternferries.example", "a@x.example"))
        assert good == [b"220", b"250", b"235", b"250", b"250", b"354", b"250", b"221"]
        for sender, recipient, author, code in (
            ("r@ternferries.example", "a@x.example", "t@ternferries.example", (3, b"550")),
            ("t@ternferries.example", "a@y.example", "t@ternferries.example", (4, b"550")),
            ("t@ternferries.example", "a@x.example", "Tide <evil@x.example>", (6, b"550")),
        ):
            assert (await said(here, one(sender, recipient, author)))[code[0]] == code[1]
        await here.until_caught(1)
        config = here.loaded.path
    told = json.loads(kite("trace", "--refused", "--json", config=config).stdout)
    assert [(event["who"], event["stage"], event["count"]) for event in told] == [
        ("account ticketing", "accept", 1), ("account ticketing", "recipient", 1), ("account ticketing", "sender", 1),
    ]  # fmt: skip
    assert {event["reply"].partition(" account")[0] for event in told} == {"550 5.7.1"}
    shown = kite("trace", "--refused", config=config).stdout.decode()
    assert "account ticketing" in shown and "may not send as <evil@x.example>" in shown


async def test_what_the_engine_refuses_by_itself_is_on_record_at_once(
    folder: Path, authority: CertificateFiles
) -> None:
    """By client, account that was tried, and reason; no secret among it; and narrowed as other lists are."""

    async with site(folder, authority) as here:
        accounts(here, '[[account]]\nname = "ticketing"\n')
        text = here.loaded.path.read_text().replace(
            'name = "programs"\n', 'name = "programs"\nlogin = "optional"\nmax_recipients = 100\n'
        )
        here.loaded.path.write_text(text)
        await here.service.reload(load_configuration(here.loaded.path))
        logins = [b64encode(f"\0{name}\0wrong-password".encode()) for name in ("ticketing", "nobody")]
        lines = [
            b"EHLO h", *(b"AUTH PLAIN " + login for login in logins), b"d3JvbmctcGFzc3dvcmQ=",
            b"MAIL FROM:<a@x.example> SIZE=99999999999", b"MAIL FROM:<a@x.example>", b"RCPT TO:<@>",
            *(b"RCPT TO:<r%d@x.example>" % n for n in range(101)), b"QUIT",
        ]  # fmt: skip
        await converse(here.port, b"".join(line + b"\r\n" for line in lines))
        await here.until(lambda reader: len(reader.noted(Event.REFUSED, 0.0)) >= 6)
        shown = json.loads(kite("trace", "--refused", "--json", config=here.loaded.path).stdout)
        result = {(item["stage"], item["account"], item["reply"][:9]) for item in shown}
        assert result >= {
            ("login", "ticketing", "535 5.7.8"), ("login", "nobody", "535 5.7.8"), ("hello", None, "500 5.5.1"),
            ("sender", None, "552 5.3.4"), ("recipient", None, "501 5.1.3"), ("recipient", None, "452 4.5.3"),
        }  # fmt: skip
        assert "wrong-password" not in str(shown) and "d3Jvbmc" not in str(shown)
        (unknown,) = [item for item in shown if item["account"] == "nobody"]
        assert unknown["example"]["why"] == "there is no such account"
        for words, count in ((("--who", "nobody"), 1), (("--reason", "5.3.4"), 1), (("--to", "r100@x.example"), 1)):
            narrowed = kite("trace", "--refused", "--json", *words, config=here.loaded.path).stdout
            assert len(json.loads(narrowed)) == count


async def test_the_postmaster_hears_of_a_program_gone_wild(folder: Path, authority: CertificateFiles) -> None:

    async with site(folder, authority, extra="[guard]\nsurge = 5.0\nat_least = 3\n") as here:
        heard = await converse(here.port, talk(*(letter(f"a{n}@x.example") for n in range(5))))
        assert heard.count(b"450 4.7.1 127.0.0.1 has sent 3 in this hour") == 2
        caught = await here.until_caught(4)
        report = next(message for message in caught if not message.reverse_path)
        assert report.recipients == ("postmaster@ternferries.example",) and report.file is not None
        assert b"Subject: 127.0.0.1 is slowed down" in report.file.read_bytes()
        assert b"From: Mail at" in report.file.read_bytes()
        assert take_readings(here.loaded, Totals(), time.time()).surges == ["127.0.0.1"]  # what an alarm goes by


async def test_a_client_keeps_to_the_pace_and_to_its_number_of_sessions(
    folder: Path, authority: CertificateFiles
) -> None:
    """W-13: who is faster waits; only where that would take long is it refused."""
    waited: list[float] = []

    loop = asyncio.get_running_loop()
    call_later = loop.call_later

    def at_once(delay: float, call: Callable[..., object], *given: object) -> asyncio.TimerHandle:
        if getattr(call, "__name__", "") == "_pace_kept":
            waited.append(delay)
            delay = 0.0
        return call_later(delay, call, *given)

    loop.call_later = at_once  # type: ignore[method-assign]
    async with site(folder, authority, clock=JumpingClock()) as here:
        text = here.loaded.path.read_text()
        text = text.replace('name = "programs"\n', 'name = "programs"\npace = "2/m"\n')
        here.loaded.path.write_text(text.replace("[server]\n", "[server]\nsessions_per_client = 2\n"))
        await here.service.reload(load_configuration(here.loaded.path))
        heard = await converse(here.port, talk(*(letter(f"a{n}@x.example") for n in range(8))))
        assert heard.count(b"450 4.7.1 messages come too fast") == 2 and heard.count(b" kept as ") == 6
        assert waited == [30.0, 60.0, 90.0, 120.0], "two at once, then one after the other, and no longer than 2m"
        open_ones = [await asyncio.open_connection("127.0.0.1", here.port) for _ in range(3)]
        greetings = [await reader.readline() for reader, _ in open_ones]
        assert [line[:9] for line in greetings] == [b"220 quay1", b"220 quay1", b"421 4.7.0"]
        open_ones[0][1].close()
        await asyncio.sleep(0)
        for _, writer in open_ones:
            writer.close()


def test_local_names_that_point_in_a_circle_are_refused_by_the_configuration(folder: Path) -> None:
    config = folder / "kite.toml"
    circle = {"root": "duty@quay1.ternferries.example", "duty": "root@quay1.ternferries.example"}
    config.write_text(
        site_text(
            connector("c", "localhost:2525", tls="off"),
            bind=f"127.0.0.1:{free_port()}",
            identity={"domain": None, "recipients": circle},
        )
    )
    done = kite("check", config=config)
    assert done.returncode != 0 and b"in a circle" in done.stdout + done.stderr
