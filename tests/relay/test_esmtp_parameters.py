"""What a program asks for with a message: notices (RFC 3461), TLS on all the way (RFC 8689); and what a next hop limits."""

from __future__ import annotations

import asyncio
import ssl
from pathlib import Path

import pytest

from copper_kite.net.authority import CertificateFiles
from copper_kite.session.standin import Caught, Rule
from copper_kite.settings.load import load_configuration
from copper_kite.smtp.limits import Limits
from copper_kite.smtp.replies import Reply
from copper_kite.words import State
from tests.relay.test_gate import accounts
from tests.relay.test_relay import LETTER, ended, letter, records, talk
from tests.support import JumpingClock, Site, converse, site

WITHOUT_DSN = frozenset({"DSN"})
REFUSE = (Rule("gone@*", Reply(550, "5.1.1", "no mailbox")), Rule("late@*", Reply(451, "4.7.1", "later"), times=1))
CONTENT = b"Subject: hi\r\n\r\nthe body\r\n"


def asking(recipient: str, rcpt: str = "", mail: str = "", sender: str = "ticketing@ternferries.example") -> bytes:
    return f"MAIL FROM:<{sender}> {mail}\r\nRCPT TO:<{recipient}> {rcpt}\r\nDATA\r\n".encode() + CONTENT + b".\r\n"


def text(caught: Caught) -> bytes:
    assert caught.file is not None
    return caught.file.read_bytes()


async def test_what_is_asked_for_goes_on_as_it_was_written(folder: Path, authority: CertificateFiles) -> None:
    """D-09, Q-06: through the store, too; the notice of success is left to the next hop."""

    async with site(folder, authority, rules=REFUSE, clock=JumpingClock()) as here:
        rcpt = "NOTIFY=Success,failure ORCPT=rfc822;B+2BC@x.example"
        await converse(here.port, talk(asking("late@x.example", rcpt, "RET=hdrs ENVID=a+2Bb+3Dc")))
        (caught,) = await here.until_caught(1)
        assert (caught.esmtp_parameters, caught.rcpt_parameters) == ("RET=hdrs ENVID=a+2Bb+3Dc", (rcpt,))
        await here.until(ended(1))
        assert len(records(here)[0].attempts) == 2


async def test_a_relayed_message_is_told_of_where_the_next_hop_does_not(
    folder: Path, authority: CertificateFiles
) -> None:
    """D-10: no parameter goes there; one notice, of `relayed`, for those who asked for it."""

    async with site(folder, authority, withheld=WITHOUT_DSN) as here:
        await converse(
            here.port,
            talk(asking("a@x.example", "NOTIFY=SUCCESS", "ENVID=q7"), asking("b@x.example", "NOTIFY=NEVER")),
        )
        caught = await here.until_caught(3)
        await here.until(ended(3))
        notice = next(message for message in caught if not message.reverse_path)
        assert {(message.esmtp_parameters, message.rcpt_parameters) for message in caught} == {("", ("",))}
        assert b"Action: relayed\r\nStatus: 2.0.0" in text(notice) and b"Final-Recipient: rfc822; a@x" in text(notice)
        assert b"Original-Envelope-Id: q7" in text(notice) and b"the body" not in text(notice)


@pytest.mark.parametrize(
    ("notify", "told"), [("", 1), ("NOTIFY=FAILURE", 1), ("NOTIFY=SUCCESS,DELAY", 0), ("NOTIFY=NEVER", 0)]
)
async def test_who_hears_of_a_failure(folder: Path, authority: CertificateFiles, notify: str, told: int) -> None:
    """D-07, Q-13; and with a copy to the postmaster, also for those who are not told."""

    extra = '[retry]\nnotice_copy = "duty@crew.example"\n'
    async with site(folder, authority, rules=REFUSE, extra=extra) as here:
        await converse(here.port, talk(asking("gone@x.example", notify), asking("gone@x.example", notify, sender="")))
        caught = await here.until_caught(2 + told)
        await here.until(ended(4 + told))
        assert sorted(message.recipients[0] for message in caught) == sorted(
            ["duty@crew.example"] * 2 + ["ticketing@ternferries.example"] * told
        )
        assert all(b"Action: failed" in text(message) for message in caught)


async def test_a_copy_that_cannot_be_sent_has_no_copy(folder: Path, authority: CertificateFiles) -> None:
    """D-03: what is refused everywhere ends."""

    extra = '[retry]\nnotice_copy = "duty@crew.example"\n'
    async with site(folder, authority, rules=(Rule("*", Reply(550, "5.7.1", "no")),), extra=extra) as here:
        await converse(here.port, talk(asking("gone@x.example")))
        # the message, its notice and that one's copy, and the message's copy
        await here.until(ended(4))


@pytest.mark.parametrize("delay", ["NOTIFY=DELAY", "NOTIFY=FAILURE"])
async def test_who_hears_of_a_delay(folder: Path, authority: CertificateFiles, delay: str) -> None:
    """D-07, D-11."""
    rules = (Rule("late@*", Reply(451, "4.7.1", "later"), times=9),)
    extra = '[retry]\nwaits = ["30m"]\nnotice_after = "2h"\n'

    async with site(folder, authority, rules=rules, clock=JumpingClock(), extra=extra) as here:
        await converse(here.port, talk(asking("late@x.example", delay)))
        told = delay == "NOTIFY=DELAY"
        caught = await here.until_caught(1 + told)
        await here.until(ended(1 + told))
        assert sum(b"Action: delayed" in text(message) for message in caught) == told


@pytest.mark.parametrize(("ret", "kind"), [("RET=FULL", b"message/rfc822"), ("RET=HDRS", b"text/rfc822-headers")])
async def test_what_comes_back_of_a_failed_message(
    folder: Path, authority: CertificateFiles, ret: str, kind: bytes
) -> None:
    """D-08."""

    async with site(folder, authority, rules=REFUSE) as here:
        await converse(here.port, talk(asking("gone@x.example", mail=ret)))
        (notice,) = await here.until_caught(1)
        assert b"Content-Type: " + kind in text(notice)
        assert (b"the body" in text(notice)) == (ret == "RET=FULL")


@pytest.mark.parametrize(("tls", "withheld", "goes"), [
    ("starttls", frozenset(), True), ("starttls", frozenset({"REQUIRETLS"}), False), ("off", frozenset(), False),
])  # fmt: skip
async def test_tls_on_all_the_way(
    folder: Path, authority: CertificateFiles, tls: str, withheld: frozenset[str], goes: bool
) -> None:
    """T-15: only to a verified next hop that offers it; else it fails, and the notice goes whatever its way."""
    certificate = f'certificate = "{authority.certificate}"\nkey = "{authority.key}"\n'

    async with site(folder, authority, tls=tls, withheld=withheld) as here:
        config = here.loaded.path
        text_of = config.read_text().replace("[[connector]]", f'tls = "starttls"\n{certificate}[[connector]]', 1)
        config.write_text(text_of)
        await here.service.reload(load_configuration(config))
        await send_under_tls(here, authority)
        (caught,) = await here.until_caught(1)
        assert (caught.esmtp_parameters == "REQUIRETLS") == goes
        if not goes:
            assert b"Status: 5.7.30" in text(caught)


async def test_a_notice_demands_of_its_way_what_its_message_did(folder: Path, authority: CertificateFiles) -> None:
    """RFC 8689 5: and holds the header alone, whatever was asked for."""
    certificate = f'tls = "starttls"\ncertificate = "{authority.certificate}"\nkey = "{authority.key}"\n'

    async with site(folder, authority, rules=REFUSE) as here:
        config = here.loaded.path
        config.write_text(config.read_text().replace("[[connector]]", f"{certificate}[[connector]]", 1))
        await here.service.reload(load_configuration(config))
        await send_under_tls(here, authority, asking("gone@x.example", mail="REQUIRETLS RET=FULL"))
        (notice,) = await here.until_caught(1)
        assert notice.reverse_path == "" and notice.esmtp_parameters == "REQUIRETLS"
        assert b"text/rfc822-headers" in text(notice) and b"the body" not in text(notice)
        assert b"Remote-MTA: dns; localhost (127.0.0.1)\r\n" in text(notice)


async def test_what_a_program_asserts_of_itself_is_not_passed_on(folder: Path, authority: CertificateFiles) -> None:
    """A-17, RFC 4954 5: `AUTH=<>` in its place, and only where we have logged in."""

    (folder / "clear").mkdir()

    async with site(folder, authority) as here:
        await offer_logins(here)
        for said in ("AUTH=<>", "AUTH=e+3Dmc2@example.com"):
            await converse(here.port, talk(asking("a@x.example", mail=said)))
        heard = await converse(here.port, talk(asking("a@x.example", mail="AUTH=a=b")))
        assert b"501 5.5.4" in heard
        caught = await here.until_caught(2)
        assert [message.esmtp_parameters for message in caught] == ["AUTH=<>", "AUTH=<>"]
    async with site(folder / "clear", authority, tls="off") as here:
        await offer_logins(here)
        await converse(here.port, talk(asking("a@x.example", mail="AUTH=<>")))
        assert [message.esmtp_parameters for message in await here.until_caught(1)] == [""]


async def offer_logins(here: Site) -> None:
    accounts(here, '[[account]]\nname = "ticketing"\n')
    text = here.loaded.path.read_text()
    here.loaded.path.write_text(text.replace('name = "programs"\n', 'name = "programs"\nlogin = "optional"\n'))
    await here.service.reload(load_configuration(here.loaded.path))


async def send_under_tls(here: Site, authority: CertificateFiles, letter: bytes = b"") -> None:
    context = ssl.create_default_context(cafile=str(authority.authority))
    reader, writer = await asyncio.open_connection("127.0.0.1", here.port)
    writer.write(b"EHLO t.example\r\nSTARTTLS\r\n")
    while not (await reader.readline()).startswith(b"220 2.0.0"):
        pass
    await writer.start_tls(context, server_hostname="localhost")
    writer.write(talk(letter or asking("a@x.example", mail="REQUIRETLS")))
    assert b"kept as" in await reader.read()
    writer.close()


# --- limits (RFC 9422, RFC 5321 4.5.3.1.10) -------------------------------------------------------------------------


@pytest.mark.parametrize("withheld", [frozenset(), frozenset({"LIMITS"})], ids=["named", "found out"])
async def test_too_many_recipients_go_in_several_transactions(
    folder: Path, authority: CertificateFiles, withheld: frozenset[str]
) -> None:
    """C-22: at once, each once, and none of it is a delay."""

    names = [f"r{number}@x.example" for number in range(5)]
    extra = 'sessions = 1\nallowance = "5/day"\n'
    async with site(folder, authority, limits=Limits(recipients=2), withheld=withheld, extra=extra) as here:
        await converse(here.port, talk(letter(*names)))
        caught = await here.until_caught(3)
        await here.until(lambda reader: not reader.queue())
        assert [message.recipients for message in caught] == [tuple(names[:2]), tuple(names[2:4]), tuple(names[4:])]
        (record,) = records(here)
        assert {(recipient.state, recipient.attempts) for recipient in record.recipients} == {(State.RELAYED, 1)}
        with here.reader() as reader:
            assert list(reader.content(record.message.id)) == []


async def test_a_full_mailbox_is_not_too_many(folder: Path, authority: CertificateFiles) -> None:
    """C-22: only a reply that speaks of the number of recipients is taken so."""
    rules = (Rule("full@*", Reply(452, "4.2.2", "mailbox full")),)

    async with site(folder, authority, rules=rules) as here:
        await converse(here.port, talk(letter("ok@x.example", "full@x.example")))
        await here.until_caught(1)
        await here.until(lambda reader: [row.recipient.state for row in reader.queue()] == [State.DELAYED])


async def test_a_session_carries_as_many_messages_as_it_may(folder: Path, authority: CertificateFiles) -> None:
    """C-22: then it is closed, and another one carries on."""

    async with site(folder, authority, limits=Limits(messages=3), extra="sessions = 1\n") as here:
        await converse(here.port, talk(*(letter(f"r{n}@x.example") for n in range(10))))
        await here.until_caught(10)
        await here.until(ended(10))
        places = [record.attempts[0].facts.session.message_of_session for record in records(here)]
        assert max(places) == 3 and places.count(1) == 4
        assert {record.recipients[0].attempts for record in records(here)} == {1}


# --- chunks (RFC 3030) ----------------------------------------------------------------------------------------------


@pytest.mark.parametrize("withheld", [frozenset(), frozenset({"CHUNKING"}), frozenset({"CHUNKING", "PIPELINING"})])
async def test_content_goes_behind_data_whatever_is_offered(
    folder: Path, authority: CertificateFiles, withheld: frozenset[str]
) -> None:
    """C-02, C-11: only a 354 proves that the session is in step; nothing goes when nobody is left."""
    large = LETTER + b".dot\r\n..\r\n" + b"x" * 998 + b"\r\n" + (b"0123456789abcdef" * 60 + b"\r\n.\r\n") * 700

    async with site(folder, authority, rules=REFUSE, withheld=withheld, extra="sessions = 1\n") as here:
        await converse(
            here.port,
            talk(
                letter("gone@x.example", sender=""),
                letter("a@x.example", "gone@x.example", content=large, sender=""),
            ),
        )
        (caught,) = await here.until_caught(1)
        await here.until(ended(3))
        assert text(caught).endswith(large)
        failed = next(record for record in records(here) if record.message.size > 1000)
        said = str(failed.attempts[0].dialogue)
        assert "BDAT" not in said and "DATA" in said
