"""How fast things are found: one story or recipient among a million, the queue's first page, a line in 1 GB of log."""

from __future__ import annotations

import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from functools import partial
from pathlib import Path

from bench.report import report
from bench.size import QUEUED, hand_in_many
from copper_kite.store import (
    AddContent,
    AddMessage,
    AddRecipient,
    Attempt,
    AttemptFacts,
    IdMaker,
    Message,
    Recipient,
    RecipientResult,
    RecordAttempt,
    Selection,
    SessionFacts,
    open_store,
)
from copper_kite.store.sqlite.schema import connect_reader
from copper_kite.trace import LogSource, tell_story
from copper_kite.words import State

__all__ = ["FINDS"]

MILLION = 1_000_000
LOG_OCTETS = 1_000_000_000
FIRST = 1_790_000_000.0
REPLY = "250 2.0.0 kept as 0123456789"
STAGES = [["sender", 0.01, "250"], ["recipient", 0.01, "250"], ["accept", 0.01, "250"]]


def fill(folder: Path, count: int, state: State) -> None:
    """A journal of so many messages, each with one recipient and one attempt, and content while it waits."""
    ids = IdMaker()
    for start in range(0, count, 5000):
        messages, recipients, attempts, content = [], [], [], []
        for number in range(start, start + 5000):
            at = FIRST + number
            id, to = ids.next(at), f"name.number{number * 7919 % 200_003}@passenger.example"
            messages.append(
                Message(id, at, at + 432000, "ticketing@ternferries.example", 4321, False, False,
                        f"<ticketing.{number}@ternferries.example>", "programs", "127.0.0.1", "t", "", "ESMTP")
            )  # fmt: skip
            next_try = None
            if state is not State.RELAYED:
                next_try = 4e9
                content.append((id, 0, b"as good as any"))
            recipients.append(Recipient(id, 1, to, state, 1, next_try, "beacon", REPLY, at + 1))
            session = SessionFacts(STAGES, tls="TLSv1.3", cipher="x", login="tern", mode="starttls")
            facts = AttemptFacts([RecipientResult(to, state.value, "accept", REPLY)], session)
            attempts.append(
                Attempt(ids.next(at), id, at, 0.02, "beacon", "out.beaconpost.example:587", "192.0.2.9", "accept", "",
                        "", 250, "2.0.0", REPLY, facts, None)
            )  # fmt: skip
        change = [
            *(AddMessage(message, (), None) for message in messages),
            *(AddContent(*portion) for portion in content),
            *map(AddRecipient, recipients),
            *map(RecordAttempt, attempts),
        ]
        assert not any(open_store(folder).write([change], durable=False))


def run(*words: str) -> float:
    """Seconds that a command takes."""
    began = time.perf_counter()
    subprocess.run(words, check=True, capture_output=True)
    return time.perf_counter() - began


def median(times: int, action: Callable[[int], object]) -> float:
    """Seconds that the action takes, given 0, 1, 2 and so on."""
    taken = []
    for number in range(times):
        began = time.perf_counter()
        action(number)
        taken.append(time.perf_counter() - began)
    return statistics.median(taken)


def story(folder: Path) -> None:
    """One message's story beside its rows by key, and a search by recipient, among a million."""
    with tempfile.TemporaryDirectory(dir=folder) as name:
        here = Path(name)
        fill(here, MILLION, State.RELAYED)
        connection, reader = connect_reader(here), open_store(here).reader()
        ids = [id for (id,) in connection.execute("SELECT id FROM message WHERE id % 997 = 0 LIMIT 500")] or [
            id for (id,) in connection.execute("SELECT id FROM message LIMIT 500 OFFSET 400000")
        ]

        def by_key(number: int) -> None:
            id = ids[number % len(ids)]
            connection.execute("SELECT * FROM message WHERE id = ?", (id,)).fetchall()
            for table in ("recipient", "attempt", "journal"):
                connection.execute(f"SELECT * FROM {table} WHERE message = ?", (id,)).fetchall()

        def told(number: int) -> None:
            tell_story(reader.record(ids[number % len(ids)]), {}, running=True)

        median(200, by_key)
        rows, kite = median(1000, by_key), median(1000, told)
        ratio = f"its rows by key {rows * 1e6:.0f} µs: {kite / rows:.2f}; goal 3"
        print(f"one story among {MILLION}: {kite * 1e6:.0f} µs, {ratio}")
        everything = Selection(states=tuple(State))
        for what, selection in (
            ("recipient", everything._replace(anyone="name.number77@passenger.example")),
            ("words", everything._replace(text="ticketing.77777@")),
        ):
            search = partial(reader.select, selection, newest=True)
            print(f"search by {what} among them: {median(5, lambda _, search=search: search(50)):.2f} s; goal 0.5")
        reader.close()


def page(folder: Path) -> None:
    """The first page of a queue of 100,000, and how fast the command starts."""
    with tempfile.TemporaryDirectory(dir=folder) as name:
        here = Path(name)
        config = here / "kite.toml"
        config.write_text('[server]\nname = "quay1.example"\ndata = "queue"\n')
        kite = (sys.executable, "-m", "copper_kite", "--config", str(config), "queue")
        for what, filling in (("delayed", partial(fill, state=State.DELAYED)), ("queued", hand_in_many)):
            filling(here / "queue", QUEUED)
            for words in (("list",), ("list", "--sort", "size"), ()):
                seconds = statistics.median([run(*kite, *words) for _ in range(5)])
                print(f"{' '.join(('kite queue', *words))}, of {QUEUED} {what}: {seconds:.2f} s; goal of the list 1")
            (here / "queue").rename(here / what)
        fill(here / "queue", 500, State.RELAYED)
        ours = min(run(*kite, "list") for _ in range(12))
        click = min(run(sys.executable, "-c", "import click") for _ in range(12))
        ratio = f"import click {click * 1000:.0f} ms: {ours / click:.2f}; goal 4"
        print(f"kite queue list, of none: {ours * 1000:.0f} ms, {ratio}")


def scan(folder: Path) -> None:
    """One message looked for in 1 GB of log, beside `grep -c`."""
    with tempfile.TemporaryDirectory(dir=folder) as name:
        path = Path(name) / "kite.log"
        line = (
            "2026-11-23T10:00:00.123Z info relayed id=0D4PQ5BV{:02} recipient=name.number{:06}@passenger.example"
            ' connector=beacon next_hop=out.beaconpost.example:587 stage=accept reply="250 2.0.0 kept as 0D4PQ5BV00"\n'
        )
        with path.open("w") as file:
            octets = number = 0
            while octets < LOG_OCTETS:
                numbers = range(number, number + 20_000)
                octets += file.write("".join(line.format(n % 100, n % 1_000_000) for n in numbers))
                number += 20_000
        needle, ratios = "number777777@passenger", []
        source = LogSource("log", (str(path),))
        for _ in range(5):
            grep = run("grep", "-c", needle, str(path))
            kite = median(1, lambda _: list(source.search([needle.encode()], time.time())))
            ratios.append(grep / kite)
            print(f"grep -c {grep:.2f} s   kite {kite:.2f} s   {grep / kite:.2f} of its rate")
        print(f"a log of 1 GB: {statistics.median(ratios):.2f} of the rate of grep -c (median); goal 0.25")


FINDS: dict[str, Callable[[Path], None]] = {"story": story, "page": page, "scan": scan, "report": report}
