"""What `kite pipe` leaves while no server runs: taken up once, as who left it, and nothing of what others forge."""

from __future__ import annotations

import asyncio
import errno
import json
import os
import shutil
from collections.abc import Callable
from pathlib import Path

import pytest

from copper_kite.errors import HandOverFailed, InputError
from copper_kite.net.authority import CertificateFiles
from copper_kite.session.drop import leave_message, open_dropped
from copper_kite.session.handover import Parcel
from copper_kite.session.standin import Caught
from copper_kite.store import DROP_MODE, dropped_names, open_store
from copper_kite.words import State
from tests.cli.test_commands import smart_host, take
from tests.configuration import store_of
from tests.looping import happens_elsewhere
from tests.support import kite, running, write_site

PARCEL = Parcel("rota@ternferries.example", ["ana@passenger.example"], b"Subject: s\r\n\r\nthe tide\r\n")


def folder_for(place: Path) -> Path:
    made = place / "drop"
    made.mkdir(parents=True, exist_ok=True)
    made.chmod(DROP_MODE)
    return made


def left_by_pipe(config: Path, *recipients: str) -> None:
    for recipient in recipients:
        done = kite("pipe", recipient, stdin=b"Subject: cron\n\nx\n", config=config)
        assert (done.returncode, done.stderr) == (0, b"")


def after_a_stop(
    folder: Path, authority: CertificateFiles, prepare: Callable[[Path], None], messages: int
) -> tuple[Path, list[Caught]]:
    """A server ran once; `prepare` is called with the configuration while it is stopped; then it runs again."""

    async def live() -> tuple[Path, list[Caught]]:
        async with smart_host(folder, authority) as (hop, caught):
            config = write_site(folder, hop)
            with running(config):
                pass
            await asyncio.to_thread(prepare, config)
            with running(config):
                result = [await take(caught) for _ in range(messages)]
                await asyncio.to_thread(until_empty, folder / "queue" / "drop")
            assert caught.empty()
            return config, result

    return asyncio.run(live())


def until_empty(place: Path) -> None:
    def is_empty() -> bool:
        with open_store(
            store_of(place.parent)
        ).reader() as reader:  # the server is killed at the end: nothing may be on its way
            return not dropped_names(place) and not reader.queue()

    happens_elsewhere(is_empty)


def test_what_is_left_while_no_server_runs_is_relayed_once(folder: Path, authority: CertificateFiles) -> None:
    """As who left it; also when the file is there again, as after a crash before it was removed."""
    kept = folder / "kept"

    def prepare(config: Path) -> None:
        left_by_pipe(config, "a@passenger.example", "b@passenger.example")
        listed = kite("queue", "list", config=config).stdout
        assert b"2 messages in the drop folder" in listed
        assert json.loads(kite("status", "--json", config=config).stdout)["dropped"] == 2
        shutil.copytree(folder / "queue" / "drop", kept)

    config, caught = after_a_stop(folder, authority, prepare, 2)
    assert {message.recipients for message in caught} == {("a@passenger.example",), ("b@passenger.example",)}
    shown = kite("trace", "a@passenger.example", config=config).stdout
    assert b"taken up" in shown and b"drop folder" in shown and b"user root" in shown
    for name in dropped_names(kept):
        shutil.copy2(kept / name, folder / "queue" / "drop" / name)
    with running(config):
        until_empty(folder / "queue" / "drop")
    with open_store(store_of(folder / "queue")).reader() as reader:
        assert reader.totals() == {State.RELAYED: 2}


@pytest.mark.skipif(os.geteuid() != 0, reason="another user's file cannot be made")
def test_it_is_taken_as_the_user_who_owns_it(folder: Path, authority: CertificateFiles) -> None:
    def prepare(config: Path) -> None:
        left_by_pipe(config, "a@passenger.example")
        (name,) = dropped_names(folder / "queue" / "drop")
        os.chown(folder / "queue" / "drop" / name, 65534, -1)

    config, (caught,) = after_a_stop(folder, authority, prepare, 1)
    assert caught.file is not None and b"nobody" in caught.file.read_bytes().partition(b"\r\nFrom:")[0]
    assert b"user nobody" in kite("trace", "a@passenger.example", config=config).stdout


def test_what_is_no_message_is_kept_apart_and_told(folder: Path, authority: CertificateFiles) -> None:
    """Neither a second name of somebody's file, nor a link, nor half a file, nor noise; the others go on."""
    name = "{:020}-" + "0" * 32

    def prepare(config: Path) -> None:
        place = folder / "queue" / "drop"
        left_by_pipe(config, "good@passenger.example")
        (good,) = dropped_names(place)
        octets = (place / good).read_bytes()
        (place / name.format(1)).write_bytes(octets[:-3])
        (place / name.format(2)).write_bytes(octets.replace(b"cron", b"iron"))
        (place / name.format(3)).write_bytes(b"noise")
        (place / name.format(4)).write_bytes(octets.replace(b"good@", b"a\\r\\nb@"))
        (folder / "other").write_bytes(octets)
        os.link(folder / "other", place / name.format(5))
        (place / name.format(6)).symlink_to(folder / "other")
        (place / ".new-half").write_bytes(b"{")

    recipients = [caught.recipients[0] for caught in after_a_stop(folder, authority, prepare, 2)[1]]
    assert recipients.count("good@passenger.example") == 1
    assert sum(recipient.startswith("postmaster@") for recipient in recipients) == 1, "once an hour is enough"
    refused = sorted(path.name for path in (folder / "queue" / "refused").iterdir())
    assert refused == [name.format(number) for number in range(1, 7)]


def test_a_folder_that_is_not_as_it_must_be_takes_nothing(folder: Path) -> None:
    """Open to be listed, without the sticky bit, a link, not there at all: no message is left, and that is told."""
    place = folder_for(folder)
    for mode in (0o1777, 0o733, 0o755):
        place.chmod(mode)
        with pytest.raises(HandOverFailed, match="its mode is"):
            leave_message(str(place), PARCEL)
    place.chmod(DROP_MODE)
    (folder / "link").symlink_to(place)
    with pytest.raises(HandOverFailed, match="it is no folder"):
        leave_message(str(folder / "link"), PARCEL)
    with pytest.raises(HandOverFailed, match="no such file"):
        leave_message(str(folder / "none"), PARCEL)
    if os.geteuid() == 0:
        os.chown(place, 65534, -1)
        folder.chmod(0o777)  # anybody could have made it there
        with pytest.raises(HandOverFailed, match="it belongs to user 65534"):
            leave_message(str(place), PARCEL)
    assert not list(place.iterdir())
    if os.geteuid() == 0:
        folder.chmod(0o755)  # root alone could, for the server's user
        leave_message(str(place), PARCEL)
        assert dropped_names(place)


@pytest.mark.parametrize("call", ["os.fsync", "os.rename"])
def test_a_disk_that_takes_nothing_leaves_nothing(folder: Path, monkeypatch: pytest.MonkeyPatch, call: str) -> None:
    place = folder_for(folder)

    def full(*_: object) -> None:
        raise OSError(errno.ENOSPC, "no space left on device")

    with monkeypatch.context() as disk:
        disk.setattr(call, full)
        with pytest.raises(HandOverFailed, match="no space left") as error:
            leave_message(str(place), PARCEL)
    assert error.value.temporary and not list(place.iterdir())


def test_what_was_left_is_read_as_it_was_written(folder: Path) -> None:
    place = folder_for(folder)
    large = PARCEL._replace(content=b"x" * 700_000, esmtp_parameters="RET=HDRS", rcpt_parameters="NOTIFY=NEVER")
    leave_message(str(place), large)
    (name,) = dropped_names(place)
    with (place / name).open("rb") as file:
        result = open_dropped(file)
        assert result.uid == os.geteuid() and result.octets == 700_000
        assert result.envelope == large._replace(content=b"") and b"".join(result.content) == large.content
    octets = bytearray((place / name).read_bytes())
    octets[-1] ^= 1
    (place / name).write_bytes(octets)
    with (place / name).open("rb") as file, pytest.raises(InputError, match="not what was written"):
        list(open_dropped(file).content)


def test_the_folder_is_looked_at_before_it_is_needed(folder: Path, authority: CertificateFiles) -> None:
    shutil.copy(authority.authority, folder / "ca.pem")
    config = write_site(folder, 1)
    with running(config):
        pass
    assert b"drop" not in kite("check", config=config).stdout
    (folder / "queue" / "drop").chmod(0o777)
    result = kite("check", config=config).stdout
    assert b"its mode is 777" in result and b"install -d -m 1733" in result
    done = kite("pipe", "a@passenger.example", stdin=b"x\n", config=config)
    assert done.returncode == 75 and b"its mode is 777" in done.stderr
