"""Take up messages that local programs left in the drop folder while no server ran, as if they submitted them now.

Each file goes through a session of a listener on a Unix socket, as the user who owns it: what holds for those who
submit there holds for it. Its name is noted in the transaction that keeps the message, so that a crash before the
file is removed does not have it taken twice.
"""

from __future__ import annotations

import asyncio
import contextlib
import os
import shutil
import time
from collections.abc import Callable, Sequence
from pathlib import Path

from copper_kite.errors import InputError
from copper_kite.net import Peer, ServerSession, user_of
from copper_kite.relay.log import Log
from copper_kite.relay.supervisor import Supervisor
from copper_kite.session import Dropped, envelope_groups, open_dropped
from copper_kite.smtp import Reply, ReplyReader
from copper_kite.store import (
    DROP_MODE,
    AddMessage,
    Done,
    JournalEntry,
    Submit,
    Transaction,
    WriteEntry,
    dropped_names,
    why_no_drop_folder,
)
from copper_kite.words import Event

__all__ = ["DropFolder"]

LOOK_SECONDS = 1.0
AGAIN_SECONDS = 30.0  # until a file that was put off is tried again
ANSWER_SECONDS = 300.0  # for each reply: a session may have to wait for the disk
TOLD_SECONDS = 3600.0  # from one message to the administrator to the next
LEFT_OVER_SECONDS = 86400.0  # after which a file that nobody finished is removed
A_LINK = Reply(554, "5.6.0", "it is a link")

Tell = Callable[[str, str], None]  # an administrator: a subject, and a text
OpenSession = Callable[[Callable[[Submit], Submit]], ServerSession | None]


class DropFolder:
    """Looks into the folder again and again. `open_session` opens a session of a local listener, whose transactions
    go through what it is given; None where there is no such listener. `noted` knows names that were taken up since an
    instant. What can never be taken is moved to `refused`, which must not be a name within the drop folder: any local
    user could have made it, and would read there what others wrote."""

    def __init__(
        self,
        folder: Path,
        refused: Path,
        server: str,
        open_session: OpenSession,
        noted: Callable[[float], Sequence[JournalEntry]],
        tell: Tell,
        supervisor: Supervisor,
        log: Log,
        now: Callable[[], float],
    ) -> None:
        self._folder = folder
        self._refused = refused
        self._server = server
        self._open_session = open_session
        self._noted = noted
        self._tell = tell
        self._log = log
        self._now = now
        self._supervisor = supervisor
        self._problem = ""  # that was told
        self._told_until = 0.0  # of what is refused
        self._put_off: dict[str, float] = {}  # names, and when they are tried again (`time.monotonic`)
        self._unsure: set[str] = set()  # those that may have been kept although no answer said so
        self._task: asyncio.Task[None] | None = None
        self._ended = False
        self._make()
        self._remove_unfinished()
        self._taken = self._known(self._names())  # by a crash before they were removed
        self._looker = supervisor.every(LOOK_SECONDS, self.look, first=0.0)

    def _make(self) -> None:
        """Make the folder where it is not there, and let users through to it."""
        with contextlib.suppress(OSError):
            if not self._folder.exists():
                self._folder.mkdir(mode=DROP_MODE)
                self._folder.chmod(DROP_MODE)
            parent = self._folder.parent
            if parent.stat().st_uid == os.geteuid():
                parent.chmod(parent.stat().st_mode | 0o011)

    def _known(self, names: Sequence[str]) -> set[str]:
        """The files whose messages are already in the queue."""
        if not names:
            return set()
        kept = {entry.facts["file"] for entry in self._noted(int(min(names)[:20]) / 1e9 - 1)}
        return kept.intersection(names)

    def close(self) -> None:
        """Look no more; what is being taken up is taken up again after the next start, unless it was kept."""
        self._ended = True
        self._looker.cancel()
        if self._task is not None:
            self._task.cancel()

    def look(self) -> None:
        """Take up what is there, one after the other."""
        if self._task is None or self._task.done():
            problem = why_no_drop_folder(str(self._folder), os.geteuid())
            if problem and problem != self._problem:
                self._log.write("warning", "drop folder", file=str(self._folder), text=f"cannot be used: {problem}")
            self._problem = problem
            if not problem and (names := self._names()):
                self._task = asyncio.get_running_loop().create_task(self._take_all(names))

    def _names(self) -> list[str]:
        """The files to be taken up now, the oldest first."""
        now = time.monotonic()
        return [name for name in dropped_names(self._folder) if self._put_off.get(name, 0.0) <= now]

    def _remove_unfinished(self) -> None:
        """Remove files that a program began and will not finish."""
        for path in self._folder.glob(".new-*"):
            with contextlib.suppress(OSError):
                if time.time() - path.lstat().st_mtime > LEFT_OVER_SECONDS:
                    path.unlink()

    async def _take_all(self, names: Sequence[str]) -> None:
        if unsure := self._unsure.intersection(names):
            self._taken |= self._known(sorted(unsure))
            self._unsure -= unsure
        for name in names:
            if self._ended:
                return
            try:
                await self._take(name)
            except OSError as error:  # a timeout is one, too
                self._unsure.add(name)
                self._wait(name, str(error))
            except Exception as error:
                self._unsure.add(name)
                self._wait(name, self._supervisor.note(error, file=name))

    async def _take(self, name: str) -> None:
        path = self._folder / name
        if name not in self._taken:
            reply = await self._hand_in_file(name, path) if not path.is_symlink() else A_LINK
            if reply.code >= 500:
                self._refuse(path, str(reply))
                return
            if reply.code >= 300:
                if reply.code == 421:
                    self._unsure.add(name)
                self._wait(name, str(reply))
                return
            self._taken.add(name)
        path.unlink()
        self._taken.discard(name)
        self._put_off.pop(name, None)

    async def _hand_in_file(self, name: str, path: Path) -> Reply:
        """The reply that decides; one of ours for what is no such file. Raises OSError."""
        with os.fdopen(os.open(path, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC), "rb") as file:
            try:
                return await self._hand_in(name, open_dropped(file))
            except InputError as error:
                return Reply(554, "5.6.0", str(error))

    def _wait(self, name: str, why: str) -> None:
        """Leave it where it is for a while."""
        if name not in self._put_off:
            self._log.write("notice", "drop folder", file=name, text=f"not taken up yet: {why}")
        self._put_off[name] = time.monotonic() + AGAIN_SECONDS

    def _refuse(self, path: Path, why: str) -> None:
        """Keep a file that can never be accepted, and tell an administrator where it is."""
        self._refused.mkdir(mode=0o700, exist_ok=True)
        kept = self._refused / path.name
        shutil.move(path, kept)  # a rename, unless the drop folder is on another file system
        self._log.write("error", "drop folder", file=path.name, text=f"refused: {why}")
        if time.monotonic() > self._told_until:  # every local user may put there what he likes
            self._told_until = time.monotonic() + TOLD_SECONDS
            text = (
                f"A program left a message that cannot be sent: {why}\nIt is kept in {kept}."
                " What is refused within the next hour is in the log, and in that folder."
            )
            self._tell("a message in the drop folder was refused", text)

    async def _hand_in(self, name: str, dropped: Dropped) -> Reply:
        """Submit it to a listener; the decisive reply. Raises InputError for content in another form."""
        session = self._open_session(lambda submit: self._noting(name, dropped.at, submit))
        if session is None:
            return Reply(451, "4.3.0", "no listener with a Unix socket takes it")
        pocket = _Pocket(Peer("", user_of(dropped.uid)))
        session.connection_made(pocket)
        try:
            return await _converse(session, pocket, dropped, self._server)
        finally:
            pocket.abort()
            session.connection_lost(None)

    def _noting(self, name: str, left: float, submit: Submit) -> Submit:
        """A `submit` that stores the file's name with its message."""

        def submit_noted(transaction: Transaction, done: Done) -> None:
            now, facts = self._now(), {"file": name, "left": left}
            entries = [
                WriteEntry(JournalEntry(at=now, event=Event.TAKEN_UP, message=operation.message.id, facts=facts))
                for operation in transaction
                if isinstance(operation, AddMessage)
            ]
            submit([*transaction, *entries], done)

        return submit_noted


class _Pocket(asyncio.Transport):
    """A connection within this process: the session's replies are kept for the caller."""

    def __init__(self, peer: Peer) -> None:
        super().__init__({"peer": peer})
        self._replies = ReplyReader()
        self._closing = False
        self._moved = asyncio.Event()
        self._reads = asyncio.Event()
        self._reads.set()

    def write(self, data: bytes | bytearray | memoryview) -> None:
        self._replies.feed(bytes(data))
        self._moved.set()

    def is_closing(self) -> bool:
        return self._closing

    def close(self) -> None:
        self._closing = True
        self._moved.set()

    abort = close

    def pause_reading(self) -> None:
        self._reads.clear()

    def resume_reading(self) -> None:
        self._reads.set()

    async def wait_until_read(self) -> None:
        """Until the session reads again."""
        async with asyncio.timeout(ANSWER_SECONDS):
            await self._reads.wait()

    async def reply(self) -> Reply:
        """The next reply. A connection that was closed gives a 421."""
        async with asyncio.timeout(ANSWER_SECONDS):
            while True:
                result = self._replies.next()
                if result is not None:
                    return result
                if self._closing:
                    return Reply(421, "", "the session was closed")
                self._moved.clear()
                await self._moved.wait()


async def _converse(session: ServerSession, pocket: _Pocket, dropped: Dropped, server: str) -> Reply:
    """The commands that hand a message in; the first reply that is not positive, or the last one."""
    envelope = dropped.envelope
    for each in (envelope.sender, envelope.esmtp_parameters, envelope.rcpt_parameters, *envelope.recipients):
        if not each.isprintable():  # nothing gets out of its command
            raise InputError("its envelope cannot be read")
    if (reply := await pocket.reply()).code >= 300:
        return reply
    hello = f"EHLO {server}\r\n".encode(), 1
    for group, count in (hello, *envelope_groups(envelope, dropped.octets, eight_bit=True)):
        session.data_received(group)
        for _ in range(count):
            if (reply := await pocket.reply()).code >= 300:
                return reply
    session.data_received(f"BDAT {dropped.octets} LAST\r\n".encode())
    for portion in dropped.content:
        await pocket.wait_until_read()
        session.data_received(portion)
        await asyncio.sleep(0)  # the others have their turn
    return await pocket.reply()
