"""A damaged queue made anew: what is known stays as it was, what is not is parked, and what is lost is told."""

from __future__ import annotations

import random
import shutil
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path

import pytest

from copper_kite.errors import StoreError
from copper_kite.store import (
    AddContent,
    AddMessage,
    AddRecipient,
    DropContent,
    Message,
    MoveContent,
    Recipient,
    SetState,
    Transaction,
    open_store,
)
from copper_kite.store.sqlite.process import start_process
from copper_kite.store.sqlite.rescue import UNKNOWN, Rescued, rescue
from copper_kite.store.sqlite.schema import connect_writer
from copper_kite.store.sqlite.segments import segment_sizes
from copper_kite.words import State
from tests.support import whole

NOW = 5000.0


def octets(id: int) -> bytes:
    """Every fifth message looks as if a label were in it."""
    return b"%d kite+lab " % id * (20 + 400 * (id % 5 == 0))


def submitted(id: int) -> list[Transaction]:
    """To one recipient or to three; every fourth comes in portions."""
    content = octets(id)
    message = Message(
        id, 100.0, 9000.0, "rota@ternferries.example", len(content), False, False, f"<{id}@x>", "programs",
        "127.0.0.1", "h", "", "ESMTP",
    )  # fmt: skip
    recipients = [Recipient(id, number, f"r{number}@y.example") for number in range(1, 2 + 2 * (id % 2))]
    if id % 4:
        return [whole(message, recipients, content)]
    pieces = [content[:100], content[100:150], content[150:]]
    return [
        *([AddContent(id, number, piece)] for number, piece in enumerate(pieces)),
        [AddMessage(message, (), None), *map(AddRecipient, recipients)],
    ]


def decided(id: int, state: State, next_try: float | None = None) -> Transaction:
    return [SetState(id, 1, state, 2, next_try, "beacon", f"said of {id}", 200.0)]


@pytest.fixture
def damaged(folder: Path) -> Path:
    """40 messages, of which some have ended; in several segments."""
    queue = folder / "queue"
    for begin in (1, 21):
        open_store(queue).write([change for id in range(begin, begin + 20) for change in submitted(id)])
    open_store(queue).write([decided(2, State.RELAYED), decided(6, State.DELAYED, 300.0), decided(10, State.FAILED)])
    assert len(segment_sizes(queue)) == 2
    return queue


def without_database(queue: Path) -> None:
    for path in queue.glob("queue.sqlite*"):
        path.unlink()


def kept(queue: Path) -> dict[int, tuple[bytes, list[Recipient]]]:
    with open_store(queue).reader() as reader:
        ids = {row.message.id for row in reader.queue()} | {10}
        return {id: (b"".join(reader.content(id)), reader.recipients(id)[1]) for id in sorted(ids)}


def test_what_the_database_knows_stays_as_it_was(damaged: Path, folder: Path) -> None:
    before = kept(damaged)
    result = rescue(damaged, folder / "new", NOW)
    assert result == Rescued(known=39, ended=1)
    assert kept(folder / "new") == before
    channel, _ = start_process(folder / "new")
    channel.close()


def test_without_a_database_all_are_parked_with_whom_they_were_for(damaged: Path, folder: Path) -> None:
    before = kept(damaged)
    without_database(damaged)
    with pytest.raises(StoreError, match="kite queue rescue"):
        connect_writer(damaged)
    result = rescue(damaged, folder / "new", NOW)
    assert (result.parked, result.known, result.lost, result.unsure) == (40, 0, [], False)
    with open_store(folder / "new").reader() as reader:
        for id, (content, recipients) in before.items():
            message, parked = reader.recipients(id)
            assert b"".join(reader.content(id)) == content and message.reverse_path == "rota@ternferries.example"
            assert [item.address for item in parked] == [recipient.address for recipient in recipients]
            assert {(item.state, item.reply) for item in parked} == {(State.PARKED, UNKNOWN)}


def test_what_was_moved_says_what_was_known_then(damaged: Path, folder: Path) -> None:
    """The file in which it was first has gone, with its label."""
    with open_store(damaged).reader() as reader:
        portion = next(iter(reader.content(6)))
    others = [id for id in range(1, 41) if id != 6]
    open_store(damaged).write([[*map(DropContent, others), MoveContent(6, 0, portion)]])
    channel, _ = start_process(damaged)
    channel.close()  # which sweeps
    assert [number for number, _ in segment_sizes(damaged)] == [3]
    without_database(damaged)
    assert rescue(damaged, folder / "new", NOW).parked == 1
    with open_store(folder / "new").reader() as reader:
        _, (recipient,) = reader.recipients(6)
        assert recipient.attempts == 2 and recipient.connector == "beacon" and b"".join(reader.content(6)) == octets(6)


def test_an_old_database_and_newer_content(damaged: Path, folder: Path) -> None:
    """A database from a backup: what came after it is parked."""
    shutil.copytree(damaged, folder / "backup")
    open_store(damaged).write(submitted(41))
    without_database(damaged)
    for path in (folder / "backup").glob("queue.sqlite*"):
        shutil.copy(path, damaged)
    result = rescue(damaged, folder / "new", NOW)
    assert (result.known, result.parked, result.ended, result.lost) == (39, 1, 1, [])


def test_content_of_another_folder_is_refused(damaged: Path, folder: Path) -> None:
    open_store(folder / "other").write(submitted(1))
    shutil.copy(folder / "other" / "content" / "00000001", damaged / "content" / "00000009")
    with pytest.raises(StoreError, match="are of different queues"):
        connect_writer(damaged)


def test_a_folder_with_something_in_it_is_left_alone(damaged: Path, folder: Path) -> None:
    (folder / "new").mkdir()
    (folder / "new" / "note").touch()
    with pytest.raises(StoreError, match="not empty"):
        rescue(damaged, folder / "new", NOW)


def spoil(path: Path, random: random.Random) -> None:
    """A bit, a page of zeros, or the end of a file."""
    data = bytearray(path.read_bytes())
    at = random.randrange(len(data))
    match random.randrange(4):
        case 0:
            data[at] ^= 1 << random.randrange(8)
        case 1:
            data[at & ~4095 : (at & ~4095) + 4096] = bytes(min(4096, len(data) - (at & ~4095)))
        case 2:
            del data[at:]
        case _:
            data[at : at + 200] = random.randbytes(len(data[at : at + 200]))
    path.write_bytes(data)


def files(queue: Path) -> Iterator[Path]:
    yield queue / "queue.sqlite"
    yield from (queue / "content").iterdir()


@pytest.mark.parametrize("seed", range(40))
def test_whatever_is_damaged_nothing_is_lost_without_a_word(damaged: Path, folder: Path, seed: int) -> None:
    """And what is kept is what came: no octet of it is another."""
    dice = random.Random(seed)
    with closing(connect_writer(damaged)) as connection:  # all of it into the one file
        connection.execute("PRAGMA wal_checkpoint(TRUNCATE)")
    for _ in range(dice.randrange(1, 4)):
        spoil(dice.choice(sorted(files(damaged))), dice)
    result = rescue(damaged, folder / "new", NOW)
    lost = {item.id for item in result.lost}
    with open_store(folder / "new").reader() as reader:
        there = {row.message.id for row in reader.queue()}
        for id in there:
            assert b"".join(reader.content(id)) == octets(id)
    missing = set(range(1, 41)) - {2, 10} - there - lost
    assert not missing or result.unsure
