"""Headers of any length: what is judged by them sees all of them, or the message is refused; however they are cut."""

from __future__ import annotations

from pathlib import Path

import pytest

from copper_kite.net.authority import CertificateFiles
from copper_kite.settings.load import load_configuration
from tests.relay.test_gate import LOGIN, accounts
from tests.relay.test_relay import letter
from tests.support import Site, codes, converse, site

BOUNDS = '[[account]]\nname = "ticketing"\nsenders = ["t@ternferries.example"]\n'
FILLER = b"".join(b"X-Filler-%d: %s\r\n" % (n, b"x" * 900) for n in range(330))  # 300 KB
BODY = b"\r\nBcc: in the body\r\n" + b"line\r\n" * 60_000  # more than one portion


async def limited(here: Site, max_header: str) -> None:
    accounts(here, BOUNDS)
    text = here.loaded.path.read_text()
    here.loaded.path.write_text(
        text.replace('name = "programs"\n', f'name = "programs"\nlogin = "optional"\nmax_header = "{max_header}"\n')
    )
    await here.service.reload(load_configuration(here.loaded.path))


@pytest.mark.parametrize("chunk", [0, 1400, 70_001])
async def test_a_header_that_is_too_long_is_refused_as_a_whole(
    folder: Path, authority: CertificateFiles, chunk: int
) -> None:
    """S-35, S-39, S-41: no check is passed by for its size; and the session goes on behind it."""
    content = FILLER + b"From: evil@x.example\r\nBcc: b@x.example\r\n" + b"Received: x\r\n" * 300 + BODY

    async with site(folder, authority) as here:
        await limited(here, "256KiB")
        long_one = letter("a@x.example", sender="t@ternferries.example", content=content)
        endless = letter("a@x.example", sender="t@ternferries.example", content=FILLER * 2)
        good = letter("a@x.example", sender="t@ternferries.example", content=b"From: t@ternferries.example\r\n" + BODY)
        heard = await converse(here.port, LOGIN + long_one + endless + good + b"QUIT\r\n", chunk=chunk)
        assert codes(heard)[3:-1] == [b"250", b"250", b"354", b"552"] * 2 + [b"250", b"250", b"354", b"250"]
        assert heard.count(b"552 5.3.4 the header has over 262144 octets") == 2
        (caught,) = await here.until_caught(1)
        assert caught.file is not None and caught.file.read_bytes().endswith(BODY)
        small = letter("a@x.example", sender="t@ternferries.example", content=b"X: y\r\n" * 44_000 + b"\r\n")
        assert b"552 5.3.4" in await converse(here.port, LOGIN + small + b"QUIT\r\n")


@pytest.mark.parametrize("chunk", [0, 1400, 70_001])
async def test_a_long_header_is_judged_to_its_end(folder: Path, authority: CertificateFiles, chunk: int) -> None:
    """S-35, S-39, S-40, S-41: behind 300 KB of it, too."""
    ours, wrong = b"From: t@ternferries.example\r\n", b"From: evil@x.example\r\n"

    async with site(folder, authority) as here:
        await limited(here, "1MiB")
        for header, code in (
            (wrong, b"550"),
            (ours + b"Received: x\r\n" * 101, b"554"),
            (ours + b"Bcc: b@x.example\r\n", b"250"),
        ):
            item = letter("a@x.example", sender="t@ternferries.example", content=FILLER + header + BODY)
            assert codes(await converse(here.port, LOGIN + item + b"QUIT\r\n", chunk=chunk))[6] == code
        (caught,) = await here.until_caught(1)
        assert caught.file is not None
        header, _, body = caught.file.read_bytes().partition(b"\r\n\r\n")
        assert b"b@x.example" not in header and b"Bcc" not in header and b"\r\n" + body == BODY
        assert header.count(b"\r\nDate:") == 1 and header.count(b"\r\nMessage-ID:") == 1
