"""Disks that fail, that lose power, and that are full: what was answered is there, and what waits can leave."""

from __future__ import annotations

import asyncio
import os
import random
import smtplib
import subprocess
from collections.abc import Iterator
from contextlib import suppress
from functools import partial
from pathlib import Path

import pytest

from copper_kite.net.authority import CertificateFiles
from copper_kite.session.standin import Rule
from copper_kite.smtp.replies import Reply
from copper_kite.store import Reader
from copper_kite.words import State
from tests.hostile.disk import ERRORS, Counts, build, losses, run_with_fault
from tests.hostile.disk_replay import Call
from tests.support import SECONDS, PatientClock, site

MIB = 1024 * 1024
KEEP_FREE = 64 * MIB  # as it is where nobody says otherwise


@pytest.fixture(scope="module")
def library(tmp_path_factory: pytest.TempPathFactory) -> Path:
    result = build(tmp_path_factory.mktemp("library"))
    if result is None:
        pytest.skip("no C compiler here")
    return result


def test_what_was_answered_outlives_a_loss_of_power(folder: Path, library: Path) -> None:
    """Q-01, Q-02: 12 losses in one run of the process that writes; nothing lost, nothing that had ended is back."""
    counts = Counts()
    losses(folder, library, random.Random(3), 12, counts)
    assert counts.right and counts.checked > 150, counts


@pytest.mark.parametrize(
    ("call", "error"),
    [
        (Call.WRITE, "EIO"),
        (Call.WRITE, "ENOSPC"),
        (Call.WRITE, "short"),
        (Call.SYNC, "EIO"),
        (Call.CREATE, "ENOSPC"),
        (Call.SYNC_FOLDER, "EIO"),
    ],
)
def test_what_was_answered_is_there_on_a_disk_that_fails(folder: Path, library: Path, call: Call, error: str) -> None:
    """Q-04, Q-05: and when the disk is well again, so is the queue."""
    counts = Counts()
    assert run_with_fault(folder, library, random.Random(2), call, ERRORS[error], counts), "no call failed"
    assert counts.right and counts.checked > 20, counts


@pytest.fixture
def small_disk(folder: Path) -> Iterator[Path]:
    """128 MiB, where the queue is to be."""
    queue = folder / "queue"
    queue.mkdir(parents=True)
    mounted = subprocess.run(
        ["mount", "-t", "tmpfs", "-o", "size=128m", "tmpfs", queue], capture_output=True, check=False
    )
    if mounted.returncode:
        pytest.skip("no disk can be mounted here")
    try:
        yield queue
    finally:
        subprocess.run(["umount", "-l", queue], check=True)


def free(disk: Path) -> int:
    about = os.statvfs(disk)
    return about.f_bavail * about.f_frsize


def hand_in(port: int, client: int) -> tuple[int, int]:
    """Ten messages of 1.5 MB that do not say their size: how many were kept, and how many put off for want of room."""
    body, kept, put_off = "The 09:00 from North Quay is on time, and your seat is kept for you.\r\n" * 22_000, 0, 0
    with smtplib.SMTP("127.0.0.1", port, local_hostname="h", timeout=SECONDS) as session:
        session.ehlo()
        for number in range(10):
            session.mail("rota@ternferries.example")
            session.rcpt(f"late{client}.{number}@x.example")
            try:
                code, _ = session.data(body)
            except smtplib.SMTPDataError as refused:  # MAIL was put off
                code = refused.smtp_code
            kept += code == 250
            put_off += code != 250
            session.rset()
    return kept, put_off


async def test_a_full_disk_is_never_overrun_and_the_queue_leaves_from_it(
    small_disk: Path, folder: Path, authority: CertificateFiles
) -> None:
    """S-19, Q-05: many at once cannot take the room that is to be kept; and nothing is lost when others take it."""
    clock, least = PatientClock(), [free(small_disk)]

    async def look() -> None:
        while True:
            log = small_disk / "queue.sqlite-wal"  # the queue records in it what becomes of messages, and may
            least[0] = min(least[0], free(small_disk) + (log.stat().st_size if log.exists() else 0))
            await asyncio.sleep(0)

    def count(state: State, number: int, reader: Reader) -> bool:
        return reader.totals().get(state, 0) == number

    async def fill() -> int:
        rules = (Rule("late*", Reply(451, "4.7.1", "later")),)
        async with site(folder, authority, tls="off", clock=clock, rules=rules) as here:
            looking = asyncio.create_task(look())
            done = await asyncio.gather(*(asyncio.to_thread(hand_in, here.port, client) for client in range(8)))
            looking.cancel()
            kept = sum(kept for kept, _ in done)
            await here.until(partial(count, State.DELAYED, kept))
            assert any(put_off for _, put_off in done)
            return kept

    async def leave(kept: int) -> None:
        async with site(folder, authority, tls="off", clock=clock) as here:
            clock.time += 4000.0
            await here.until(partial(count, State.RELAYED, kept))
            assert len(here.caught) == kept

    kept = await fill()
    assert kept > 5 and least[0] >= KEEP_FREE
    with suppress(OSError), (small_disk / "somebody else's").open("wb", buffering=0) as file:
        while True:
            file.write(bytes(4096))
    assert free(small_disk) < MIB
    await leave(kept)
