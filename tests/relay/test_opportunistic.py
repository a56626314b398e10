"""Connectors with opportunistic TLS: a next hop is the same one, however far its TLS went."""

from __future__ import annotations

from pathlib import Path

import pytest

from copper_kite.net.authority import CertificateFiles
from copper_kite.settings.load import load_configuration
from tests.relay.test_relay import letter, records, talk
from tests.relay.test_reload import changed
from tests.support import converse, site


@pytest.mark.parametrize("offered", ["off", "starttls"])
async def test_one_session_carries_many_messages(folder: Path, authority: CertificateFiles, offered: str) -> None:
    async with site(folder, authority, tls="off", offered=offered) as here:
        changed(here, 'tls = "off"', 'tls = "opportunistic"')
        await here.service.reload(load_configuration(here.loaded.path))
        for number in range(5):
            await converse(here.port, talk(letter(f"x{number}@y.example")))
            await here.until_caught(number + 1)
        await here.until(lambda reader: not reader.summary().by_state)
        counts = [record.attempts[0].facts.session.message_of_session for record in records(here)]
        assert sorted(counts) == [1, 2, 3, 4, 5]
