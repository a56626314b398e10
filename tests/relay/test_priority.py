"""How urgent a message is: who says so, that it goes on, and that it counts. RFC 6710."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import pytest

from copper_kite.net.authority import CertificateFiles
from copper_kite.relay import supply
from copper_kite.relay.service import Service
from copper_kite.session.standin import StandIn
from copper_kite.settings.load import load_configuration
from copper_kite.smtp.extensions import Offers
from copper_kite.words import Priority, State
from tests.support import Site, StoppedClock, converse, site

RULES = '[[priority]]\nsenders = ["tidewatch@x.example"]\npriority = "urgent"\n'
RULES += '[[priority]]\nsenders = ["*.bulk.example"]\npriority = "bulk"\n'


def letter(sender: str, recipient: str, parameter: str = "") -> bytes:
    return f"MAIL FROM:<{sender}>{parameter}\r\nRCPT TO:<{recipient}>\r\nDATA\r\nSubject: x\r\n\r\nx\r\n.\r\n".encode()


def session(*letters: bytes) -> bytes:
    return b"EHLO h\r\n" + b"".join(letters) + b"QUIT\r\n"


def choosing(here: Site) -> None:
    """Programs may say how urgent their messages are."""
    text = here.loaded.path.read_text().replace('name = "programs"', 'name = "programs"\nchoose_priority = true')
    here.loaded.path.write_text(text)


async def another_smart_host(here: Site, **plan: object) -> None:
    """One in the place of the one that was there."""
    await here.stand_in.stop()
    here.stand_in = StandIn(replace(here.stand_in.plan, **plan), here.take)  # type: ignore[arg-type]
    await here.stand_in.start("127.0.0.1", int(here.loaded.settings.connector[0].next_hop.port))


@pytest.mark.parametrize("passes_on", [True, False])
async def test_who_says_how_urgent_a_message_is(folder: Path, authority: CertificateFiles, passes_on: bool) -> None:
    """A rule, else the program where it may, else the listener; the next hop hears of it where it offers that."""

    async with site(folder, authority, tls="off", extra=RULES) as here:
        await another_smart_host(here, offers=Offers(priorities=passes_on, max_size=10_000))
        heard = await converse(here.port, session(letter("a@x.example", "r@y.example", " MT-PRIORITY=4")))
        assert b"MT-PRIORITY" not in heard and b"\r\n555 5.5.4" in heard, "nobody may choose here"
        choosing(here)
        await here.service.reload(load_configuration(here.loaded.path))
        for sender, parameter in [
            ("tidewatch@x.example", " MT-PRIORITY=-4"), ("a@b.bulk.example", ""), ("a@x.example", " MT-PRIORITY=9"),
            ("b@x.example", ""), ("c@x.example", " MT-PRIORITY=0"),
        ]:  # fmt: skip
            heard = await converse(here.port, session(letter(sender, "r@y.example", parameter)))
            assert b"MT-PRIORITY MIXER\r\n" in heard and b"kept as" in heard
        heard = await converse(here.port, session(letter("a@x.example", "r@y.example", " MT-PRIORITY=10")))
        assert b"\r\n501 5.5.4" in heard
        caught = await here.until_caught(5)
        asked = {message.reverse_path: message.esmtp_parameters for message in caught}
        given = {
            "tidewatch@x.example": 4,
            "a@b.bulk.example": -4,
            "a@x.example": 9,
            "b@x.example": 0,
            "c@x.example": 0,
        }
        with here.reader() as reader:
            rows = reader.queue(tuple(State))
        assert {row.message.reverse_path: row.message.priority for row in rows} == given
        for sender, value in given.items():
            assert asked[sender] == (f"MT-PRIORITY={value}" if value and passes_on else "")
            (item,) = [message for message in caught if message.reverse_path == sender]
            text = item.file.read_bytes() if item.file else b""
            assert (b"\tPRIORITY %d;" % value in text) == bool(value), "RFC 6710: our Received says it"


async def test_an_urgent_message_passes_what_waits(
    folder: Path, authority: CertificateFiles, monkeypatch: pytest.MonkeyPatch
) -> None:
    """More of another sender wait than there are places in memory; and the next hop takes one at a time."""
    for name, value in (("MAX_IN_HAND", 10), ("MAX_IN_LANE", 10), ("SURE_PLACES", 2), ("REFILL", 5)):
        monkeypatch.setattr(supply, name, value)

    async with site(folder, authority, tls="off", extra=f"sessions = 1\n{RULES}") as here:
        await here.stand_in.stop()
        choosing(here)
        await here.service.reload(load_configuration(here.loaded.path))
        await converse(here.port, session(*(letter("rota@x.example", f"n{n}@y.example") for n in range(60))))
        for sender in ("ticketing@z.bulk.example", "tidewatch@x.example"):
            await converse(here.port, session(letter(sender, f"{sender.partition('@')[0]}@y.example")))
        await another_smart_host(here)
        here.service.dispatcher.supply.try_now(("beacon", ""))
        caught = await here.until_caught(62)
        places = {item.recipients[0].partition("@")[0]: place for place, item in enumerate(caught)}
        assert places["tidewatch"] <= 12, "a few were on their way by then"
        assert 5 <= places["ticketing"] <= 40, "bulk mail has its turns, too"


async def test_what_waits_keeps_its_priority_through_a_restart(folder: Path, authority: CertificateFiles) -> None:

    clock = StoppedClock()
    async with site(folder, authority, tls="off", clock=clock, extra=f"sessions = 1\n{RULES}") as here:
        await here.stand_in.stop()
        await converse(here.port, session(*(letter("rota@x.example", f"n{n}@y.example") for n in range(20))))
        await converse(here.port, session(letter("tidewatch@x.example", "t@y.example")))
        await here.until(lambda reader: reader.totals() == {State.DELAYED: 21})
        await here.service.stop(1.0)
        with here.reader() as reader:
            rows = reader.queue(tuple(State))
        assert Priority.of(rows[-1].message.priority) is Priority.URGENT
        await another_smart_host(here)
        again = await Service.start(here.loaded, clock)
        caught = await here.until_caught(20)  # the first one waits for its time
        assert [message.recipients[0] for message in caught].index("t@y.example") < 3
        await again.stop(1.0)
