"""What delays or fails a message: sessions that are not as demanded, bad peers, nobody home."""

from __future__ import annotations

from pathlib import Path

import pytest

from copper_kite.net.authority import CertificateFiles
from copper_kite.relay.service import Service
from copper_kite.settings.load import load_configuration
from copper_kite.store import open_store
from copper_kite.trace.story import Story
from copper_kite.words import Side, State
from tests.configuration import store_of
from tests.looping import happens
from tests.relay.test_relay import letter, records, story, talk
from tests.support import (
    PASSWORD,
    Site,
    StoppedClock,
    converse,
    free_port,
    scripted,
    site,
    write_site,
)


def first_failure(here: Site) -> Story:
    return story(here, records(here)[0])


@pytest.mark.parametrize(
    ("fault", "cause", "side", "words"),
    [
        ({"password": "another"}, "reply", Side.HERE, "refuses the login tern"),
        ({"offered": "off"}, "TLS not offered", Side.NEXT_HOP, "does not offer STARTTLS"),
        ({"tls": "implicit", "offered": "starttls"}, "no TLS at once", Side.HERE, "begins in clear"),
    ],
)
async def test_nothing_goes_out_when_the_session_is_not_as_demanded(
    folder: Path, authority: CertificateFiles, fault: dict[str, str], cause: str, side: Side, words: str
) -> None:
    """Promise 3, T-12, T-14: the message stays, delayed; the verdict says which it was."""

    async with site(folder, authority, clock=StoppedClock(), **fault) as here:  # type: ignore[arg-type]
        await converse(here.port, talk(letter("ana@x.example")))
        await here.until(lambda reader: any(row.recipient.attempts for row in reader.queue()))
        told = first_failure(here)
        assert told.recipients[0].state is State.DELAYED and here.caught == []
        assert told.attempts[0].cause == cause
        assert told.verdict.side is side and words in told.verdict.meaning and told.verdict.next + told.verdict.advice
        said = str(told.attempts[0].dialogue)
        assert PASSWORD not in said and "dGVybg" not in said
        if cause != "reply":
            assert "AUTH PLAIN ***" not in said and "MAIL" not in said


async def test_an_untrusted_certificate_stops_it(
    folder: Path, authority: CertificateFiles, stranger: CertificateFiles
) -> None:
    """T-07, T-14."""

    async with site(folder, authority, clock=StoppedClock()) as here:
        (folder / "ca.pem").write_bytes(stranger.authority.read_bytes())
        await converse(here.port, talk(letter("ana@x.example")))
        await here.until(lambda reader: any(row.recipient.attempts for row in reader.queue()))
        told = first_failure(here)
        assert told.attempts[0].cause == "certificate not trusted" and told.verdict.side is Side.HERE
        assert "leads to nobody that is trusted here" in told.verdict.meaning
        assert "AUTH PLAIN ***" not in str(told.attempts[0].dialogue)


@pytest.mark.parametrize(
    ("says", "stage", "cause"),
    [
        ([b"554 5.7.1 go away\r\n"], "greet", "reply"),
        ([b"220 hi\r\n", None], "hello", "connection lost"),
        ([b"nonsense\r\n"], "greet", "protocol error"),
        ([b"220 hi\r\n", b"250 ok\r\n", b"250 s\r\n", b"421 4.3.2 stopping\r\n"], "recipient", "reply"),
        ([b"220 hi\r\n", b"250 ok\r\n", b"250 s\r\n", b"250 r\r\n", b"354 go\r\n", None], "accept", "connection lost"),
        ([b"220 hi\r\n", b"250 ok\r\n", b"250 s\r\n", b"250 r\r\n", b"354 go\r\n", b"250-x\r\n251 y\r\n"], "accept",
         "protocol error"),
        ([b"220 hi\r\n", b"250-ok\r\n250 SIZE 10\r\n"], "sender", "too large"),
    ],
)  # fmt: skip
async def test_bad_peers_delay_and_lose_nothing(folder: Path, says: list[bytes | None], stage: str, cause: str) -> None:
    """C-07, C-09, C-10, C-20."""

    async with scripted(says) as (port, _):
        loaded = load_configuration(write_site(folder, port, tls="off"))
        service = await Service.start(loaded, StoppedClock())
        endpoints = service.endpoints
        await converse(endpoints[0].port, talk(letter("ana@x.example", sender="")))
        with open_store(loaded.store).reader() as reader:
            await happens(lambda: any(row.recipient.attempts for row in reader.queue(tuple(State))))
            (row,) = reader.queue(tuple(State))
            (attempt,) = reader.record(row.message.id).attempts
        assert (attempt.stage, attempt.cause) == (stage, cause)
        assert row.recipient.state is (State.FAILED if cause == "too large" else State.DELAYED)
        await service.stop()


async def test_nobody_home_and_no_connector(folder: Path) -> None:

    config = write_site(folder, free_port(), tls="off", extra='recipients = ["*.passenger.example"]\n')
    service = await Service.start(load_configuration(config), StoppedClock())
    endpoints = service.endpoints
    await converse(endpoints[0].port, talk(letter("a@b.passenger.example", "c@else.example")))
    with open_store(store_of(folder / "queue")).reader() as reader:
        await happens(lambda: all(row.recipient.state is State.DELAYED for row in reader.queue(tuple(State))))
        record = reader.record(reader.queue()[0].message.id)
    assert {attempt.cause: attempt.side for attempt in record.attempts} == {
        "connection refused": "path", "no connector": "here",
    }  # fmt: skip
    refused, nobodys = record.recipients
    assert refused.attempts == 1 and nobodys.attempts == 0, "what nobody carries is not tried"
    assert nobodys.next_try is None, "it waits for another configuration"
    await service.stop()
