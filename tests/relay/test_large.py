"""Messages too large to be collected in memory: their end, and what keeps them out."""

from __future__ import annotations

import asyncio
from pathlib import Path
from types import SimpleNamespace

import pytest

from copper_kite.errors import KiteError, StoreFailed
from copper_kite.mail import Submitted
from copper_kite.net.authority import CertificateFiles
from copper_kite.relay.streamed_message import MAX_WAITING, PORTION, StreamedMessage
from copper_kite.smtp import Reply, events
from copper_kite.smtp.content import Form
from copper_kite.store import AddContent, AddMessage, Done, DropContent, Message, Reader, Transaction
from copper_kite.store.shared.writer import COMMIT_OCTETS
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
        assert sum(b"452 4.3.1 no room" in reply for reply in heard) >= 3
        assert all(reply.endswith(b"closing\r\n") and b"250 2.0.0 done" in reply for reply in heard)
        noted = 4 * COMMIT_OCTETS  # what is refused is put on record
        assert room._backlog.octets <= most + noted and room.reserved == 0

        def none_left(reader: Reader) -> bool:
            return not reader.stray_content()

        await here.until(none_left)
        kept = sum(b"250 2.0.0 kept" in reply for reply in heard)
        assert len(here.reader().queue(list(State))) == kept


class Desk:
    """The owner, the session, the reservation and the store of a streamed message, all at hand."""

    def __init__(self) -> None:
        self.submitted: list[tuple[Transaction, Done]] = []
        self.said: list[object] = []
        self.fails = False  # whether the session breaks when it is to go on
        taken = Submitted(b"first", 0, "<m@x>", "", 0)
        reservation = SimpleNamespace(
            need=lambda octets: None, spent=lambda octets: self.said.append(("spent", octets))
        )
        self.message = StreamedMessage(self, self, self.submit, 7, 0.0, taken, reservation)  # type: ignore[arg-type]

    def submit(self, transaction: Transaction, done: Done) -> None:
        self.submitted.append((transaction, done))

    def store_says(self, error: KiteError | None = None) -> list[type]:
        """Answer all that was submitted; of which kinds it was."""
        given, self.submitted = self.submitted, []
        for _, done in given:
            done(error)
        return [type(operation) for transaction, _ in given for operation in transaction]

    def pause(self, reason: str) -> None:
        self.said.append(f"pause {reason}")

    def resume(self, reason: str) -> None:
        if self.fails:
            raise OSError("gone")
        self.said.append(f"resume {reason}")

    def fail(self, error: Exception) -> None:
        self.said.append(error)

    def make_message(
        self, id: int, at: float, taken: Submitted, size: int, content: object, event: object
    ) -> AddMessage:
        if self.fails:
            raise ValueError("no envelope")
        message = Message(id, at, 9.0, "a@x.example", size, False, False, "<m@x>", "l", "unix", "h", "", "ESMTP")
        return AddMessage(message, (), None)

    def written(self, shown: str, addition: AddMessage | None, error: KiteError | None) -> None:
        self.said.append((addition and addition.message.size, error))

    def refuse_large(self, reply: Reply) -> None:
        self.said.append(reply)


END = events.ContentEnded(b"end", 3, True, Form.FIT)


async def test_a_message_exists_when_all_its_portions_are_on_stable_storage_and_not_before() -> None:
    desk = Desk()
    desk.message.add(b"x" * PORTION)
    desk.message.finish(END)
    await asyncio.sleep(0)
    assert all(kind is AddContent for transaction, _ in desk.submitted for kind in map(type, transaction))
    assert desk.store_says() == [AddContent, AddContent]
    assert desk.store_says() == [AddMessage, AddContent]
    assert desk.said[-1] == (len(b"first") + PORTION + len(b"end"), None)


async def test_the_client_waits_while_the_store_is_behind() -> None:
    desk = Desk()
    for _ in range(MAX_WAITING - 1):
        assert "pause store" not in desk.said
        desk.message.add(b"x" * PORTION)
    assert desk.said == ["pause store"]
    desk.store_says()
    assert "resume store" in desk.said


async def test_a_portion_that_could_not_be_written_fails_the_message_and_nothing_of_it_stays() -> None:
    desk = Desk()
    desk.message.add(b"x" * PORTION)
    desk.message.finish(END)
    error = StoreFailed("the disk")
    desk.store_says(error)
    assert desk.said[-1] == (None, error) and desk.store_says() == [DropContent]


async def test_what_is_refused_is_thrown_away_and_told_when_it_is_whole() -> None:
    desk = Desk()
    no = Reply(554, "5.6.0", "not this")
    desk.message.refuse(no)
    desk.message.refuse(Reply(550, "5.7.1", "the first reason counts"))
    desk.message.add(b"x" * PORTION)
    assert desk.store_says() == [AddContent, DropContent]
    desk.message.finish(END)
    await asyncio.sleep(0)
    assert desk.said[-1] == no and not desk.submitted


@pytest.mark.parametrize("ended", [False, True])
async def test_a_fault_of_ours_fails_the_session_alone(ended: bool) -> None:
    """On the way, and at the end."""
    desk = Desk()
    desk.fails = True
    if ended:
        desk.message.finish(END)
    desk.store_says()
    errors = [said for said in desk.said if isinstance(said, Exception)]
    assert [type(error) for error in errors] == [OSError, ValueError][: 1 + ended]
