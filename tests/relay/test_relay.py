"""The whole way inside one process: a real listener, store, TLS, login and smart host; clocks that cost nothing."""

from __future__ import annotations

import email
import email.policy
from pathlib import Path

import pytest

from copper_kite.errors import FolderInUse, ListenFailed, StoreFull
from copper_kite.net.authority import CertificateFiles
from copper_kite.relay.service import Service
from copper_kite.session.standin import Rule
from copper_kite.settings.load import load_configuration
from copper_kite.smtp.limits import Limits
from copper_kite.smtp.replies import Reply
from copper_kite.store import Record, id_text
from copper_kite.trace.story import Story, tell_story
from copper_kite.words import Side, State
from tests.support import (
    PASSWORD,
    JumpingClock,
    Site,
    StoppedClock,
    codes,
    converse,
    site,
    write_site,
)

LETTER = b"Subject: hi\r\nMessage-ID: <m1@x>\r\n\r\nhello\r\n"


def letter(*recipients: str, sender: str = "ticketing@ternferries.example", content: bytes = LETTER) -> bytes:
    to = b"".join(f"RCPT TO:<{recipient}>\r\n".encode() for recipient in recipients)
    stuffed = content.replace(b"\r\n.", b"\r\n..")
    return f"MAIL FROM:<{sender}>\r\n".encode() + to + b"DATA\r\n" + stuffed + b".\r\n"


def talk(*parts: bytes) -> bytes:
    return b"EHLO ticketing.example\r\n" + b"".join(parts) + b"QUIT\r\n"


def records(here: Site) -> list[Record]:
    with here.reader() as reader:
        ids = dict.fromkeys(row.message.id for row in reader.queue(tuple(State)))
        return [reader.record(id) for id in ids]


def story(here: Site, record: Record) -> Story:
    return tell_story(record, {"config": "kite.toml", "credentials": {"beacon": "beacon"}}, running=True)


def ended(count: int) -> object:
    return lambda reader: not reader.queue() and len(reader.queue(tuple(State))) == count


async def test_a_message_goes_all_the_way(folder: Path, authority: CertificateFiles) -> None:
    """With TLS and a login; the story names all of it; the content is the same but for one field."""

    async with site(folder, authority) as here:
        heard = await converse(here.port, talk(letter("ana@passenger.example")))
        (caught,) = await here.until_caught(1)
        await here.until(ended(1))
        assert caught.secure and caught.login == "tern" and caught.recipients == ("ana@passenger.example",)
        (record,) = records(here)
        with here.reader() as reader:
            assert list(reader.content(record.message.id)) == [], "what has gone is not kept"
        assert f"250 2.0.0 kept as {id_text(record.message.id)}".encode() in heard
        assert caught.file is not None
        field, _, rest = caught.file.read_bytes().partition(b"\r\nSubject:")
        assert b"Subject:" + rest == LETTER
        assert field.startswith(b"Received: from ticketing.example ([127.0.0.1])")
        assert record.message.message_id == "<m1@x>"
        (attempt,) = record.attempts
        assert (
            attempt.facts.session.tls.startswith("TLSv1.") and attempt.facts.session.cipher and attempt.dialogue is None
        )
        assert attempt.facts.session.login == "tern" and attempt.address == "127.0.0.1"
        assert [stage for stage, _, _ in attempt.facts.session.stages] == [
            "resolve", "connect", "greet", "hello", "secure", "hello", "login",
        ]  # fmt: skip
        told = story(here, record)
        assert [line.what for line in told.lines] == ["accepted", "chosen", "relayed"]
        assert told.verdict.side is None and "Relayed for ana@passenger.example" in told.verdict.meaning


async def test_every_octet_survives(folder: Path, authority: CertificateFiles) -> None:
    """S-16, S-24, S-42, C-11: all octets but NUL, dots at line starts, lines of 998 octets, over several portions."""
    every = bytes(range(1, 256)).replace(b"\r", b"").replace(b"\n", b"")
    content = (
        b"Subject: x\r\nMIME-Version: 1.0\r\n\r\n"
        + every
        + b"\r\n.\r\n..\r\n.x\r\n"
        + b"."
        + b"y" * 997
        + b"\r\n"
        + b"z" * 998
        + b"\r\n"
    )
    large = content + (b"0123456789abcdef" * 60 + b"\r\n.dot\r\n") * 1200

    async with site(folder, authority) as here:
        await converse(here.port, talk(letter("a@x.example", content=content), letter("b@x.example", content=large)))
        for caught in await here.until_caught(2):
            assert caught.file is not None
            sent = content if caught.recipients == ("a@x.example",) else large
            assert caught.file.read_bytes().endswith(b" +0000\r\n" + sent) or caught.file.read_bytes().endswith(sent)
            assert caught.file.read_bytes().count(b"Received:") == 1


@pytest.mark.parametrize(
    "end", [b"\n.\n", b"\n.\r\n", b"\r\n.\n", b"\r.\r", b"\r\n.\r", b"\r.\r\n", b"\n.\r", b"\r\n.\r\r\n"]
)
async def test_nothing_is_smuggled_to_the_next_hop(folder: Path, authority: CertificateFiles, end: bytes) -> None:
    """W-04: what another server might take for the end of a message, with a message behind it."""
    evil = b"x" + end + b"MAIL FROM:<evil@x.test>\r\nRCPT TO:<v@x.test>\r\nDATA\r\nevil\r\n"

    async with site(folder, authority, withheld=frozenset({"CHUNKING"})) as here:
        heard = await converse(here.port, talk(letter("a@x.example", content=LETTER + evil), letter("b@x.example")))
        assert heard.count(b"550 5.6.0") == 1 and heard.count(b" kept as ") == 1
        (caught,) = await here.until_caught(1)
        await here.until(ended(1))
        assert caught.recipients == ("b@x.example",) and caught.file is not None
        assert b"evil" not in caught.file.read_bytes()


async def test_many_messages_share_a_session(folder: Path, authority: CertificateFiles) -> None:

    async with site(folder, authority, extra="sessions = 1\n") as here:
        await converse(here.port, talk(*(letter(f"r{n}@x.example") for n in range(30))))
        await here.until_caught(30)
        await here.until(ended(30))
        places = [record.attempts[0].facts.session.message_of_session for record in records(here)]
        assert sorted(places) == list(range(1, 31))


async def test_each_recipient_ends_in_its_own_way(folder: Path, authority: CertificateFiles) -> None:
    """C-01, D-02, Q-13: relayed at once, put off and relayed later, refused with a notice to the sender."""
    rules = (Rule("late@*", Reply(451, "4.7.1", "later"), times=2), Rule("gone@*", Reply(550, "5.1.1", "no mailbox")))

    async with site(folder, authority, rules=rules, clock=JumpingClock()) as here:
        await converse(here.port, talk(letter("ok@x.example", "late@x.example", "gone@x.example")))
        caught = await here.until_caught(3)
        await here.until(ended(4))
        assert sorted(message.recipients[0] for message in caught) == [
            "late@x.example", "ok@x.example", "ticketing@ternferries.example",
        ]  # fmt: skip
        notice = next(message for message in caught if message.reverse_path == "")
        assert notice.file is not None
        report = email.message_from_bytes(notice.file.read_bytes(), policy=email.policy.default)
        assert report.get_content_type() == "multipart/report"
        original, about = records(here)
        states = {recipient.address: (recipient.state, recipient.attempts) for recipient in original.recipients}
        assert states == {
            "ok@x.example": (State.RELAYED, 1), "late@x.example": (State.RELAYED, 3), "gone@x.example": (State.FAILED, 1),
        }  # fmt: skip
        told = story(here, original)
        assert sorted(line.what for line in told.lines) == sorted(
            [
                "accepted",
                "chosen",
                "relayed",
                "delayed",
                "failed",
                "notice",
                "waited",
                "delayed",
                "waited",
                "relayed",
            ]
        )
        assert told.verdict.side is Side.NEXT_HOP and "gone@x.example" in told.verdict.meaning
        assert "550 5.1.1" in told.verdict.evidence
        assert "notice about message" in story(here, about).lines[0].text
        failing = original.attempts[0]
        assert failing.dialogue is not None and any("RCPT TO:<gone@x.example>" in line[2] for line in failing.dialogue)
        assert PASSWORD not in str([attempt.dialogue for attempt in original.attempts])


async def test_a_message_that_goes_in_a_loop_ends(folder: Path, authority: CertificateFiles) -> None:
    """S-39: one server more than `max_hops`; also when most of it is in the store already."""
    hop = b"Received: from a by b; Mon, 23 Nov 2026 10:00:00 +0000\r\n"
    large = (b"0123456789abcdef" * 60 + b"\r\n") * 600

    async with site(folder, authority) as here:
        parts = [letter("a@x.example", content=hop * count + LETTER + body) for count, body in
                 ((100, b""), (101, b""), (101, large), (100, large))]  # fmt: skip
        heard = await converse(here.port, talk(*parts))
        assert [heard.count(words) for words in (b" kept as ", b"554 5.4.6")] == [2, 2]
        await here.until_caught(2)
        await here.until(lambda reader: not reader.queue() and not reader.stray_content())


async def test_a_notice_about_a_notice_is_never_sent(folder: Path, authority: CertificateFiles) -> None:
    """D-03."""

    async with site(folder, authority, rules=(Rule("*", Reply(550, "5.1.1", "no")),)) as here:
        await converse(here.port, talk(letter("gone@x.example", sender="")))
        await here.until(ended(1))


async def test_a_lifetime_ends_with_a_last_attempt_and_a_notice(folder: Path, authority: CertificateFiles) -> None:
    """Q-09."""
    rules = (Rule("never@*", Reply(450, "4.2.1", "not now")),)
    extra = '[retry]\nwaits = ["10m"]\nlifetime = "35m"\n'

    async with site(folder, authority, rules=rules, clock=JumpingClock(), extra=extra) as here:
        await converse(here.port, talk(letter("never@x.example")))
        (notice,) = await here.until_caught(1)
        assert notice.file is not None and b"Status: 4.4.7" in notice.file.read_bytes()
        record = records(here)[0]
        assert record.recipients[0].state is State.FAILED
        assert record.attempts[-1].at >= record.message.expires
        assert len(record.attempts) == 5


async def test_what_a_listener_refuses(folder: Path, authority: CertificateFiles) -> None:
    """S-21, S-33, S-34; promise 4."""

    async with site(folder, authority, clock=StoppedClock()) as here:
        heard = await converse(
            here.port,
            talk(b"MAIL FROM:<tidewatch>\r\nRCPT TO:<root>\r\nRCPT TO:<postmaster>\r\nRCPT TO:<mate>\r\nRCPT TO:<mate>\r\n"
                 b"DATA\r\nx\r\n.\r\n"),
        )  # fmt: skip
        assert codes(heard)[-2:] == [b"250", b"221"]
        (record,) = records(here)
        assert record.message.reverse_path == "tidewatch@ternferries.example"
        assert [recipient.address for recipient in record.recipients] == [
            "duty@crew.example", "postmaster@ternferries.example", "mate@ternferries.example",
        ]  # fmt: skip
    text = (folder / "kite.toml").read_text()
    other = folder / "other"
    other.mkdir()
    (other / "ca.pem").write_bytes(authority.authority.read_bytes())
    (other / "credentials.toml").write_text((folder / "credentials.toml").read_text())
    (other / "credentials.toml").chmod(0o600)
    (other / "kite.toml").write_text(
        text.replace('name = "programs"\n', 'name = "programs"\nallow = ["192.0.2.0/24"]\n')
    )

    service = await Service.start(load_configuration(other / "kite.toml"))
    endpoints = service.endpoints
    heard = await converse(endpoints[0].port, talk(letter("a@x.example")))
    assert b"550 5.7.1 127.0.0.1 may not relay through listener programs" in heard
    assert b"354" not in heard
    await service.stop()


async def test_a_restart_goes_on_where_it_was(folder: Path, authority: CertificateFiles) -> None:
    """Q-06: what was put off before goes through after, and nothing that went goes again."""
    rules = (Rule("late@*", Reply(450, "4.2.1", "later"), times=1),)

    clock = StoppedClock()
    async with site(folder, authority, rules=rules, clock=clock) as here:
        await converse(here.port, talk(letter("ok@x.example", "late@x.example")))
        await here.until(lambda reader: reader.totals() == {State.RELAYED: 1, State.DELAYED: 1})
        await here.service.stop()
        clock.time += 3600
        again = await Service.start(here.loaded, clock)
        await here.until(ended(2))
        assert [message.recipients for message in here.caught] == [("ok@x.example",), ("late@x.example",)]
        await again.stop()


@pytest.mark.data_folder
async def test_a_second_server_and_a_taken_port_are_refused(folder: Path, authority: CertificateFiles) -> None:

    async with site(folder, authority) as here:
        with pytest.raises(FolderInUse):
            await Service.start(here.loaded)
        other = folder / "other"
        other.mkdir()
        (other / "ca.pem").write_bytes(authority.authority.read_bytes())
        with pytest.raises(ListenFailed) as error:
            await Service.start(load_configuration(write_site(other, 1, port=here.port)))
        assert str(here.port) in str(error.value) and "in use" in str(error.value)
        await Service.start(load_configuration(write_site(other, 1)))


async def test_a_full_disk_is_452_and_the_session_goes_on(
    folder: Path, authority: CertificateFiles, monkeypatch: pytest.MonkeyPatch
) -> None:
    """S-19, Q-04, Q-05."""

    async with site(folder, authority) as here:
        writer = here.service.writer
        assert writer is not None
        submit = writer.submit
        full = [True]

        def refuse(change: object, done: object) -> None:
            if full.pop() if full else False:
                done(StoreFull("disk is full"))  # type: ignore[operator]
            else:
                submit(change, done)  # type: ignore[arg-type]

        for shared in here.service.listeners.shared.values():
            monkeypatch.setattr(shared, "submit", refuse)
        heard = await converse(here.port, talk(letter("a@x.example"), letter("b@x.example")))
        assert b"452 4.3.1" in heard and b"250 2.0.0 kept" in heard
        (caught,) = await here.until_caught(1)
        assert caught.recipients == ("b@x.example",)


async def test_local_senders_leave_with_their_outward_address(folder: Path, authority: CertificateFiles) -> None:
    """S-14's senders: by name, by `*`, and whole addresses as they are."""
    senders = 'senders = { tidewatch = "tide-alerts@ternferries.example", "*" = "ships@ternferries.example" }'

    async with site(folder, authority) as here:
        path = here.loaded.path
        path.write_text(path.read_text().replace("[identity]", f"[identity]\n{senders}"))
        await here.service.reload(load_configuration(path))
        for sender in ("tidewatch", "Tidewatch@quay1.ternferries.example", "rota", "a@elsewhere.example", ""):
            await converse(here.port, talk(letter("a@x.example", sender=sender)))
        caught = await here.until_caught(5)
        assert sorted(message.reverse_path for message in caught) == [
            "", "a@elsewhere.example", "ships@ternferries.example", "tide-alerts@ternferries.example",
            "tide-alerts@ternferries.example",
        ]  # fmt: skip
        await converse(here.port, talk(letter("a@x.example", content=b"From: Tide <tidewatch>\r\n" + LETTER)))
        shown = (await here.until_caught(6))[-1].file
        assert shown is not None and b"\r\nFrom: Tide <tide-alerts@ternferries.example>\r\n" in shown.read_bytes()


@pytest.mark.parametrize("withheld", [frozenset(), frozenset({"CHUNKING", "LIMITS"})])
async def test_a_smart_host_that_takes_certain_senders(
    folder: Path, authority: CertificateFiles, withheld: frozenset[str]
) -> None:
    """Mail leaves under the connector's sender; answers, and notices from here, go to whom it is from."""
    extra = 'sender = "booking@ternferries.example"\nsender_keeps = ["crew.example"]\n'
    rules = (Rule("gone@*", Reply(550, "5.1.1", "no")),)
    large = b"From: T <t@ternferries.example>\r\n" + LETTER + (b"0123456789abcdef" * 60 + b"\r\n") * 600

    limits = Limits(recipients=1)
    async with site(folder, authority, extra=extra, rules=rules, withheld=withheld, limits=limits) as here:
        await converse(
            here.port,
            talk(
                letter("a@x.example", "gone@x.example", "b@x.example", sender="t@ternferries.example", content=large),
                letter("c@x.example", sender="r@crew.example", content=b"From: r@crew.example\r\n" + LETTER),
            ),
        )
        caught = await here.until_caught(4)
        await here.until(lambda reader: not reader.queue())
        by = {message.recipients[0]: message for message in caught}
        assert {path: item.reverse_path for path, item in by.items()} == {
            "a@x.example": "booking@ternferries.example", "b@x.example": "booking@ternferries.example",
            "c@x.example": "r@crew.example", "t@ternferries.example": "",
        }  # fmt: skip
        for path in ("a@x.example", "b@x.example"):
            file = by[path].file
            assert file is not None and file.read_bytes().endswith(
                b"From: T <booking@ternferries.example>\r\nReply-To: T <t@ternferries.example>\r\n"
                + large.partition(b"\r\n")[2]
            )


async def test_the_sender_of_a_late_message_is_told_once(folder: Path, authority: CertificateFiles) -> None:
    """D-11: after `notice_after`, not per attempt; the end comes as usual; nobody is told of a notice that is late."""
    rules = (Rule("late@*", Reply(451, "4.7.1", "later")),)
    extra = '[retry]\nwaits = ["30m"]\nlifetime = "8h"\nnotice_after = "2h"\n'

    async with site(folder, authority, rules=rules, clock=JumpingClock(), extra=extra) as here:
        await converse(here.port, talk(letter("late@x.example"), letter("late@x.example", sender="")))
        caught = await here.until_caught(2)
        await here.until(lambda reader: not reader.queue())
        assert [message.recipients for message in caught] == [("ticketing@ternferries.example",)] * 2
        bodies = [message.file.read_bytes() for message in caught if message.file is not None]
        assert [body.count(b"Action: delayed") for body in bodies] == [1, 0]
        assert b"Status: 4.7.1" in bodies[0] and b"Will-Retry-Until" in bodies[0]
        assert b"Action: failed" in bodies[1] and b"Status: 4.4.7" in bodies[1]
        first = records(here)[0]
        assert sum(entry.event.value == "notice" for entry in first.journal) == 2


async def test_what_is_too_large_for_a_connector_is_not_tried(folder: Path, authority: CertificateFiles) -> None:
    """C-20: known before anything is sent; a smaller one goes, at the connector's pace."""

    async with site(folder, authority, extra='max_size = "1KiB"\npace = "6000/m"\n') as here:
        large = LETTER + b"x" * 900 + b"\r\n" + b"y" * 200 + b"\r\n"
        await converse(
            here.port, talk(letter("a@x.example", content=large), *(letter(f"b{n}@x.example") for n in range(5)))
        )
        caught = await here.until_caught(5)
        await here.until(lambda reader: not reader.queue() and len(reader.queue(tuple(State))) >= 6)
        assert ("a@x.example",) not in [message.recipients for message in caught]
        failed = records(here)[0]
        assert failed.recipients[0].state is State.FAILED and failed.recipients[0].attempts == 0
        assert failed.attempts[0].code == 552 and "connector beacon takes 1024" in failed.attempts[0].text
