"""Messages too large to be collected in memory: their end, and what keeps them out."""

from __future__ import annotations

import asyncio
from pathlib import Path
from types import SimpleNamespace

import pytest

from copper_kite.net.authority import CertificateFiles
from copper_kite.relay.streamed_message import PORTION
from copper_kite.store import Reader
from copper_kite.store.sqlite.writer import COMMIT_OCTETS
from copper_kite.words import State
from tests.support import converse, site

ENVELOPE = b"EHLO h\r\nMAIL FROM:<a@b.example>\r\nRCPT TO:<c@x.example>\r\n"
LINE = b"y" * 70 + b"\r\n"


def body(octets: int) -> bytes:
    return b"Subject: x\r\n\r\n" + LINE * (octets // len(LINE))


async def test_a_last_chunk_without_octets_ends_a_message(folder: Path, authority: CertificateFiles) -> None:
    """RFC 3030 2: `BDAT 0 LAST`, behind portions that went to the store whole."""

    async with site(folder, authority, tls="off") as here:
        content = body(PORTION)[: PORTION - 2] + b"\r\n" + LINE
        chunk = b"BDAT %d\r\n" % len(content) + content
        heard = await converse(here.port, ENVELOPE + chunk + b"BDAT 0 LAST\r\nQUIT\r\n")
        assert b"\r\n250 2.0.0 kept" in heard
        (caught,) = await here.until_caught(1)
        assert caught.file is not None and caught.size > len(content)


async def test_one_for_which_no_room_is_left_midway_is_refused_and_the_session_goes_on(
    folder: Path, authority: CertificateFiles, monkeypatch: pytest.MonkeyPatch
) -> None:
    """S-19: content without a size that was said, of several sessions at once; nothing of it stays."""

    async with site(folder, authority, tls="off") as here:
        room = here.service.room
        room.keep_free, room._looked = 0, float("-inf")
        most = 8 * PORTION
        monkeypatch.setattr("shutil.disk_usage", lambda path: SimpleNamespace(free=most - room._backlog.octets))
        message = ENVELOPE + b"DATA\r\n" + body(6 * PORTION) + b".\r\n"
        rest = b"NOOP\r\nRSET\r\nQUIT\r\n"
        heard = await asyncio.gather(*(converse(here.port, message + rest) for _ in range(4)))
        assert sum(b"452 4.3.1 no room" in one for one in heard) >= 3
        assert all(one.endswith(b"closing\r\n") and b"250 2.0.0 done" in one for one in heard)
        noted = 4 * COMMIT_OCTETS  # what is refused is put on record
        assert room._backlog.octets <= most + noted and room.reserved == 0

        def none_left(reader: Reader) -> bool:
            return not reader.stray_content()

        await here.until(none_left)
        kept = sum(b"250 2.0.0 kept" in one for one in heard)
        assert len(here.reader().queue(list(State))) == kept
