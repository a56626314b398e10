"""Another configuration taken up while the server works."""

from __future__ import annotations

import asyncio
from pathlib import Path

import pytest

from copper_kite.errors import ListenFailed, StoreError
from copper_kite.net.authority import CertificateFiles
from copper_kite.session.standin import Rule
from copper_kite.settings.load import load_configuration
from copper_kite.smtp.replies import Reply
from copper_kite.store import read_note
from copper_kite.words import State
from tests.relay.test_relay import letter, talk
from tests.support import Site, StoppedClock, converse, free_port, site


def changed(here: Site, old: str, new: str) -> None:
    path = here.loaded.path
    text = path.read_text()
    assert old in text
    path.write_text(text.replace(old, new))


async def test_sessions_stay_and_go_by_the_new_settings(folder: Path, authority: CertificateFiles) -> None:

    async with site(folder, authority) as here:
        reader, writer = await asyncio.open_connection("127.0.0.1", here.port)
        await reader.readline()
        changed(here, 'allow = ["127.0.0.0/8"]' if "allow" in here.loaded.source else 'name = "programs"',
                'name = "programs"\nallow = ["10.0.0.0/8"]')  # fmt: skip
        await here.service.reload(load_configuration(here.loaded.path))
        writer.write(b"EHLO t.example\r\nMAIL FROM:<a@b.example>\r\nRCPT TO:<c@d.example>\r\nQUIT\r\n")
        heard = await reader.read()
        assert b"250 2.1.5" in heard  # it was let in by the settings of its time
        assert b"550 5.7.1" in await converse(here.port, talk(letter("x@y.example")))
        note = read_note(here.loaded.data)
        assert note is not None and "10.0.0.0/8" in note.source and note.refused_at is None
        writer.close()


async def test_addresses_open_and_close_one_by_one(folder: Path, authority: CertificateFiles) -> None:

    async with site(folder, authority) as here:
        second = free_port()
        changed(here, f'"127.0.0.1:{here.port}"', f'"127.0.0.1:{second}"')
        await here.service.reload(load_configuration(here.loaded.path))
        assert b"250 2.0.0 kept" in await converse(second, talk(letter("x@y.example")))
        with pytest.raises(ConnectionRefusedError):
            await converse(here.port, b"")
        taken = await asyncio.start_server(lambda r, w: None, "127.0.0.1", 0)
        busy = taken.sockets[0].getsockname()[1]
        changed(here, f'"127.0.0.1:{second}"', f'"127.0.0.1:{free_port()}", "127.0.0.1:{busy}"')
        with pytest.raises(ListenFailed):
            await here.service.reload(load_configuration(here.loaded.path))
        assert b"250 2.0.0 kept" in await converse(second, talk(letter("x@y.example")))
        taken.close()


async def test_what_cannot_change_on_the_way_waits_for_the_next_start(
    folder: Path, authority: CertificateFiles
) -> None:
    """It is told in words, and keeps nothing else from being taken up."""

    async with site(folder, authority) as here:
        changed(here, 'data = "queue"', 'data = "other"')
        changed(here, "[identity]", '[retry]\nlifetime = "3d"\n[identity]')
        await here.service.reload(load_configuration(here.loaded.path))
        note = read_note(here.loaded.data)
        assert note is not None and note.refused_at is None and 'data = "other"' in note.source
        assert note.problems == (
            f"the data folder stays {folder / 'queue'} until the next start, when it becomes {folder / 'other'}",
        )
        assert here.service.loaded.settings.retry.lifetime == 3 * 86400 and here.service.loaded.data == folder / "queue"
        await converse(here.port, talk(letter("a@x.example")))
        await here.until_caught(1)


async def test_the_log_is_opened_anew_and_may_change(folder: Path, authority: CertificateFiles) -> None:
    """Whoever rotates logs has moved the file; another place, form and level count at once; one that cannot be is refused."""

    log = f'[log]\nto = "file:{folder}/kite.log"\nlevel = "info"\n'
    async with site(folder, authority, extra=log) as here:
        (folder / "kite.log").rename(folder / "kite.log.1")
        await here.service.reload(load_configuration(here.loaded.path))
        await converse(here.port, talk(letter("a@x.example")))
        await here.until_caught(1)
        assert " accepted " in (folder / "kite.log").read_text() and (folder / "kite.log.1").exists()
        changed(here, f"file:{folder}/kite.log", f"file:{folder}/other.log")
        changed(here, 'level = "info"', 'level = "info"\nformat = "json"')
        await here.service.reload(load_configuration(here.loaded.path))
        await converse(here.port, talk(letter("b@x.example")))
        await here.until_caught(2)
        assert '"event": "accepted"' in (folder / "other.log").read_text()
        (folder / "file").write_text("")
        changed(here, f"file:{folder}/other.log", f"file:{folder}/file/x.log")
        with pytest.raises(StoreError) as error:
            await here.service.reload(load_configuration(here.loaded.path))
        assert "the log cannot be opened there" in str(error.value)
        before = (folder / "other.log").read_text()
        await converse(here.port, talk(letter("c@x.example")))
        await here.until_caught(3)
        assert len((folder / "other.log").read_text()) > len(before), "it goes on where it was"


async def test_what_waits_for_a_connector_goes_by_its_new_settings(folder: Path, authority: CertificateFiles) -> None:
    """A connector that hangs: its waiting jobs are given back, and go out through what replaces it."""

    async with site(folder, authority, extra="sessions = 1\n") as here:
        silent = await asyncio.start_server(lambda r, w: None, "127.0.0.1", 0)  # takes connections, says nothing
        dead = silent.sockets[0].getsockname()[1]
        text = here.loaded.path.read_text()
        hop = text.partition('hosts = ["localhost:')[2].partition('"')[0]
        changed(here, f"localhost:{hop}", f"localhost:{dead}")
        await here.service.reload(load_configuration(here.loaded.path))
        await converse(here.port, talk(letter("a@x.example"), letter("b@x.example")))
        assert here.caught == []
        changed(here, f"localhost:{dead}", f"localhost:{hop}")
        await here.service.reload(load_configuration(here.loaded.path))
        await here.until_caught(2)
        silent.close()


async def test_a_connector_that_is_disabled_carries_nothing(folder: Path, authority: CertificateFiles) -> None:

    rule = Rule("later@*", Reply(450, "4.2.1", "later"), times=1)
    async with site(folder, authority, rules=(rule,), clock=StoppedClock()) as here:
        changed(here, 'name = "beacon"', 'name = "beacon"\nenabled = false')
        await here.service.reload(load_configuration(here.loaded.path))
        await converse(here.port, talk(letter("a@x.example")))
        await here.until(lambda reader: [row.recipient.state for row in reader.queue()] == [State.DELAYED])
        with here.reader() as reader:
            (row,) = reader.queue()
            assert row.recipient.reply == "no connector carries this recipient" and here.caught == []
