"""The process that writes on a disk that fails, and through losses of power.

`python -m tests.hostile.disk --losses 2000 --faults 20 --seed 1`: work is given to the process, whose calls about files a
small library records, and lets fail. A loss of power is replayed from the record: what was synced is there; of what was
written since, anything may be, in halves too. After each, what was answered must be there, what has ended must not come
back, and no octet may be another.
"""

from __future__ import annotations

import argparse
import errno
import mmap
import os
import random
import select
import shutil
import struct
import subprocess
import tempfile
from collections import Counter, deque
from collections.abc import Callable
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path
from typing import NamedTuple

from copper_kite.errors import ContentUnreadable, KiteError
from copper_kite.store import (
    AddContent,
    AddMessage,
    AddRecipient,
    Attempt,
    AttemptFacts,
    Message,
    Reader,
    Recipient,
    RecordAttempt,
    RecordRelayed,
    SessionFacts,
    SetState,
    Sweep,
    Transaction,
    open_store,
)
from copper_kite.store.shared.writer import GroupWriter
from copper_kite.store.sqlite.process import start_process
from copper_kite.store.sqlite.schema import connect_writer
from copper_kite.words import FINAL, State
from tests.hostile.disk_replay import Call, lose_power, steps

__all__ = ["Counts", "build", "run_with_fault"]

SOURCE = Path(__file__).with_name("disk.c")
GROUPS = 40  # of changes, in one run
_FAULT = struct.Struct("=iiii")


def build(folder: Path) -> Path | None:
    """The library; None where there is no compiler."""
    compiler = shutil.which("cc") or shutil.which("gcc")
    if compiler is None:
        return None
    library = folder / "disk.so"
    subprocess.run([compiler, "-shared", "-fPIC", "-O1", "-o", str(library), str(SOURCE), "-ldl"], check=True)
    return library


# --- the work ------------------------------------------------------------------------------------------------------


class Event(NamedTuple):
    """One change of a message: when it was submitted and answered, by the octets of the record then."""

    id: int
    begins: bool  # the message, rather than ends it
    handed_in: int
    answered: int
    kept: bool


@dataclass
class Work:
    """What a run did, as far as it is known to who asked for it."""

    events: list[Event] = field(default_factory=list)
    content: dict[int, bytes] = field(default_factory=dict)
    waiting: list[int] = field(default_factory=list)


class Bench:
    """A process that writes, with the library in it, and what the loop would do here."""

    def __init__(self, folder: Path, library: Path) -> None:
        self.queue = folder / "queue"
        self.record = folder / "record"
        self.ended = 0  # times that the process gave up, and another was started
        self._folder = folder
        self._library = library
        (folder / "fault").write_bytes(bytes(_FAULT.size))
        with (folder / "fault").open("r+b") as file:
            self._fault = mmap.mmap(file.fileno(), _FAULT.size)
        connect_writer(self.queue).close()
        self.base = {str(path): path.read_bytes() for path in self.queue.rglob("*") if path.is_file()}
        self._start()

    def _start(self) -> None:
        more = {
            "LD_PRELOAD": str(self._library), "DISK_FOLDER": str(self.queue), "DISK_RECORD": str(self.record),
            "DISK_FAULT": str(self._folder / "fault"),
        }  # fmt: skip
        os.environ.update(more)
        try:
            channel, handed = start_process(self.queue)
        finally:
            for name in more:
                del os.environ[name]
        self._channel = channel
        self._deferred: deque[Callable[[], None]] = deque()
        self._lost = False
        self._writer = GroupWriter(channel, handed, self._deferred.append, self._lose, _raise)

    def _lose(self) -> None:
        self._lost = True

    def fault(self, call: int, error: int, spared: int, times: int) -> None:
        """From now on, such calls fail: after `spared` that do not, so many `times`."""
        self._fault[:] = _FAULT.pack(call, error, spared, times)

    @property
    def faults_left(self) -> int:
        return int(_FAULT.unpack(self._fault[:])[3])

    def recorded(self) -> int:
        """The octets of the record."""
        return self.record.stat().st_size if self.record.exists() else 0

    def write(self, *changes: Transaction) -> list[KiteError | None]:
        """Have them written together."""
        answers: dict[int, KiteError | None] = {}
        for number, change in enumerate(changes):
            self._writer.submit(change, partial(answers.__setitem__, number))
        while len(answers) < len(changes):
            if self._deferred:
                self._deferred.popleft()()
            else:
                assert select.select([self._channel], [], [], 60)[0], "the process does not answer"
                self._writer.answered()
        if self._lost:  # as the server would, and its administrator after it
            self.ended += 1
            self._writer.close()
            self.fault(0, 0, 0, 0)
            self._start()
        return [answers[number] for number in range(len(changes))]

    def close(self) -> None:
        self._writer.close()
        self._fault.close()


def _raise(change: object, written: bool, error: Exception) -> None:
    raise error


def work(bench: Bench, dice: random.Random, groups: int, done: Work | None = None) -> Work:
    """Groups of changes as a server makes them: messages of all sizes come, are put off, and leave."""
    done = done or Work()
    for _ in range(groups):
        handed_in = bench.recorded()
        free = deque(dice.sample(done.waiting, len(done.waiting)))  # a server does one thing at a time with a message
        if dice.randrange(6):
            changes = [_change(done, free, dice) for _ in range(dice.randrange(1, 7))]
        else:  # all of them leave, and the files are tidied up
            changes = [_end(done, id) for id in free] + [(0, False, [Sweep()])]
        answers = bench.write(*(change for _, _, change in changes))
        for (id, begins, _), error in zip(changes, answers, strict=True):
            if id:
                done.events.append(Event(id, begins, handed_in, bench.recorded(), error is None))
                if begins and error is None:
                    done.waiting.append(id)
    return done


def _change(done: Work, free: deque[int], dice: random.Random) -> tuple[int, bool, Transaction]:
    """The message that it begins or ends (0: neither), and the change."""
    kind = dice.randrange(10)
    if kind < 5 or not free:
        return _submission(done, dice)
    if kind == 6:
        return 0, False, [Sweep()]
    id = free.popleft()
    if kind == 5:
        put_off = [SetState(id, 1, State.DELAYED, 1, 200.0, "beacon", "451 later", 100.0)]
        return 0, False, [*put_off, RecordAttempt(_attempt(id))]
    if kind == 7:
        done.waiting.remove(id)
        outcomes = [SetState(id, 1, State.RELAYED, 2, None, "beacon", "250 taken", 100.0)]
        return id, False, [*outcomes, RecordAttempt(_attempt(id))]
    return _end(done, id)


def _end(done: Work, id: int) -> tuple[int, bool, Transaction]:
    done.waiting.remove(id)
    results = [(1, 1, f"r1@{id}.example", "250 taken")]
    relayed = RecordRelayed(
        id, id, 1.0, 0.1, "beacon", "hop:25", "192.0.2.1", 250, "", "taken", results, SessionFacts(), 2.0, True
    )
    return id, False, [relayed]


def _submission(done: Work, dice: random.Random) -> tuple[int, bool, Transaction]:
    id = len(done.content) + 1
    content = (b"%d kite " % id) * dice.choice([1, 40, 500, 9000])
    done.content[id] = content
    message = Message(
        id, 100.0, 9e9, "rota@ternferries.example", len(content), False, False, f"<{id}@x>", "programs", "127.0.0.1",
        "h", "", "ESMTP",
    )  # fmt: skip
    recipient = Recipient(id, 1, f"r1@{id}.example")
    if dice.randrange(4):
        return id, True, [AddMessage(message, [recipient], content, ("127.0.0.1", 1, 1))]
    middle = len(content) // 2
    portions = [AddContent(id, 0, content[:middle]), AddContent(id, 1, content[middle:])]
    return id, True, [AddMessage(message, (), None), *portions, AddRecipient(recipient)]


def _attempt(id: int) -> Attempt:
    number = random.getrandbits(60)
    return Attempt(
        number, id, 1.0, 0.1, "beacon", "hop:25", "", "accept", "", "", 451, "", "later", AttemptFacts(), None
    )


# --- what came of it ------------------------------------------------------------------------------------------------


@dataclass
class Counts:
    """Of all that was checked."""

    checked: int = 0
    lost: int = 0  # answered, and not there; or not with its own octets
    back: int = 0  # ended, and there again
    broken: int = 0  # queues that could not be opened
    unanswered: int = 0  # refused or never answered, and there: at most a copy more
    ended: int = 0  # times that the process gave up

    @property
    def right(self) -> bool:
        return not (self.lost or self.back or self.broken)

    def __str__(self) -> str:
        return (
            f"{self.checked} messages answered: lost {self.lost}, back {self.back}, queues that cannot be opened"
            f" {self.broken}, kept without an answer {self.unanswered}; the process gave up {self.ended} times"
        )


def check(queue: Path, done: Work, counts: Counts, upto: int | None = None) -> None:
    """Count what became of what was answered before the record had `upto` octets (None: of all)."""
    begun = {event.id: event for event in done.events if event.begins}
    ends = {event.id: event for event in done.events if not event.begins}
    with open_store(queue).reader() as reader:
        there = {row.message.id: row.recipient.state for row in reader.queue(tuple(State))}
        for id, event in begun.items():
            if upto is not None and event.handed_in >= upto:
                continue
            if not event.kept or (upto is not None and event.answered > upto):
                counts.unanswered += id in there
                continue
            counts.checked += 1
            end = ends.get(id)
            if end is not None and end.kept and (upto is None or end.answered <= upto):
                counts.back += there.get(id) not in FINAL
            elif end is not None and there.get(id) in FINAL:
                pass  # it was on its way to be recorded
            else:
                counts.lost += id not in there or not _is_whole(reader, id, done.content[id])


def _is_whole(reader: Reader, id: int, content: bytes) -> bool:
    try:
        return b"".join(reader.content(id)) == content
    except ContentUnreadable:
        return False


# --- losses of power ------------------------------------------------------------------------------------------------


def losses(folder: Path, library: Path, dice: random.Random, count: int, counts: Counts) -> None:
    """One run, and `count` losses of power in it."""
    bench = Bench(folder, library)
    done = work(bench, dice, GROUPS)
    end = bench.recorded()
    bench.close()
    taken = list(steps(bench.record.read_bytes()))
    for number in range(count):
        into, upto = folder / f"loss{number}", dice.randrange(end + 1)
        lose_power(bench.base, taken, upto, bench.queue, into, dice)
        try:
            channel, _ = start_process(into)
            channel.close()
        except KiteError:
            counts.broken += 1
            continue
        check(into, done, counts, upto)
        shutil.rmtree(into)


# --- faults ---------------------------------------------------------------------------------------------------------

ERRORS = {"EIO": errno.EIO, "ENOSPC": errno.ENOSPC, "EDQUOT": errno.EDQUOT, "short": 0}


def run_with_fault(folder: Path, library: Path, dice: random.Random, call: Call, error: int, counts: Counts) -> bool:
    """Work, work while such calls fail now and then, and work again; whether it came to a failure at all."""
    bench = Bench(folder, library)
    done = work(bench, dice, 5)
    struck = False
    for _ in range(3):
        times = dice.choice([1, 3, 50])
        bench.fault(call, error, dice.randrange(12) if call in (Call.WRITE, Call.SYNC) else 0, times)
        work(bench, dice, 8, done)
        struck = struck or bench.ended > 0 or bench.faults_left < times
        bench.fault(0, 0, 0, 0)
        before = len(done.events)
        work(bench, dice, 3, done)
        assert bench.ended or all(event.kept for event in done.events[before:]), "it goes on when the disk is well"
    bench.close()
    check(bench.queue, done, counts)
    counts.ended += bench.ended
    return struck


def main() -> int:
    """Losses of power, then each call with each error; exit 1 when anything was lost or came back."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--losses", type=int, default=1000)
    parser.add_argument("--faults", type=int, default=3, help="runs of each call with each error")
    parser.add_argument("--seed", type=int, default=1)
    given = parser.parse_args()
    right = True
    with tempfile.TemporaryDirectory() as name:
        library = build(Path(name))
        if library is None:
            parser.error("no C compiler here")
        counts, each = Counts(), 50
        for number in range(-(-given.losses // each)):
            folder = Path(name) / f"loss{number}"
            folder.mkdir()
            losses(folder, library, random.Random(given.seed + number), each, counts)
            shutil.rmtree(folder)
        print(f"{given.losses} losses of power: {counts}", flush=True)
        right = right and counts.right
        for call in Call:
            for words, error in ERRORS.items():
                if words == "short" and call is not Call.WRITE:
                    continue
                counts, struck = Counts(), Counter[bool]()
                for number in range(given.faults):
                    folder = Path(name) / f"{call.name}{words}{number}"
                    folder.mkdir()
                    struck[
                        run_with_fault(folder, library, random.Random(given.seed + number), call, error, counts)
                    ] += 1
                    shutil.rmtree(folder)
                print(
                    f"{call.name.lower()} {words}: {struck[True]} of {given.faults} runs struck; {counts}", flush=True
                )
                right = right and counts.right
    return 0 if right else 1


if __name__ == "__main__":
    raise SystemExit(main())
