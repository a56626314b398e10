"""`python -m bench shared`: a queue in PostgreSQL, on this machine, beside one in the data folder, in turns; and
`python -m bench takeover`: 100,000 messages of a server that died, taken over by another, and a queue of a million."""

from __future__ import annotations

import argparse
import contextlib
import statistics
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager
from pathlib import Path

from copper_kite.demo.database import DatabaseServer
from copper_kite.store import AddMessage, IdMaker, Message, Recipient, Selection, Store, StorePlace, open_store
from copper_kite.words import State

__all__ = ["GOALS", "database", "shared", "takeover"]

GOALS = {"accept": 0.4, "relay": 0.5}
DEAD = 100_000  # messages of the server that died
LARGE = 1_000_000
AT_A_TIME = 5000
LEASE = 2.0
GOAL_SECONDS, GOAL_LIST, GOAL_STORY = 20.0, 0.5, 0.005


@contextmanager
def database(folder: str | Path) -> Iterator[DatabaseServer]:
    """A PostgreSQL server on the disk that is measured, with the settings that it comes with."""
    with tempfile.TemporaryDirectory(dir=folder) as place:
        server = DatabaseServer(Path(place))
        server.start("-c listen_addresses=", "-c shared_buffers=512MB")
        try:
            server.sql("CREATE DATABASE kite", "postgres")
            yield server
        finally:
            server.stop("immediate")


def shared(arguments: argparse.Namespace, measure: Callable[[str, str], float]) -> None:
    """`measure` gives messages a second of accept or relay with a queue there; empty for one in the data folder."""
    ratios: dict[str, list[float]] = {what: [] for what in GOALS}
    with database(arguments.folder) as server:
        for what in GOALS:
            after = measure(what, "")
            for number in range(1, arguments.rounds + 1):
                url = server.add_user(f"{what}{number}")
                before, there, after = after, measure(what, url), measure(what, "")
                ratios[what].append(2 * there / (before + after))
                print(
                    f"round {number}: {what} in the data folder {before:6.0f} and {after:6.0f} msgs/s"
                    f"   in PostgreSQL {there:6.0f} msgs/s   {ratios[what][-1]:.3f}",
                    flush=True,
                )
    for what, goal in GOALS.items():
        print(f"{what} in PostgreSQL: {statistics.median(ratios[what]):.3f} (median); goal {goal}")


def _fill(store: Store, count: int, first: int = 0) -> list[int]:
    """Add so many messages; their ids."""
    ids, numbers, now = IdMaker(first, 1), [], time.time()
    for start in range(0, count, AT_A_TIME):
        transactions = []
        for number in range(start, min(start + AT_A_TIME, count)):
            id = ids.next(now)
            numbers.append(id)
            message = Message(
                id, now, now + 432000, f"app{number % 20}@ternferries.example", 1000, False, False, f"<{id}@quay>",
                "programs", f"192.0.2.{number % 200}", "app", "", "ESMTP", subject=f"Booking {number}",
            )  # fmt: skip
            to = Recipient(id, 1, f"p{number}@passenger{number % 500}.example", connector="beacon")
            transactions.append([AddMessage(message, [to], b"x" * 1000)])
        assert not any(store.write(transactions))
    return numbers


def takeover(folder: Path) -> None:
    """Measure and print."""
    with database(folder) as server, tempfile.TemporaryDirectory(dir=folder) as place:
        url = server.add_user("kite")
        dead = open_store(StorePlace(Path(place) / "dead", url, server="dead.example", lease=LEASE))
        writer = dead.start_writer(lambda call: call(), lambda: None, lambda *_: None)
        _fill(dead, DEAD)
        with contextlib.suppress(Exception):
            writer.close()
        heir = open_store(StorePlace(Path(place) / "heir", url, server="heir.example", lease=30.0))
        writer = heir.start_writer(lambda call: call(), lambda: None, lambda *_: None)
        writer.beat()
        time.sleep(LEASE + 0.5)
        with closing(heir.server_reads()) as reads:
            began, taken = time.monotonic(), 0
            while ids := reads.adopt(2000):
                taken += len(ids)
                reads.waiting(ids, time.time())  # as the server does with them
            seconds = time.monotonic() - began
        print(f"{taken} messages of a dead server taken over in {seconds:.1f} s; goal {GOAL_SECONDS:.0f} s")
        ids = _fill(heir, LARGE - DEAD, 1 << 49)
        server.sql("ANALYZE")
        with heir.reader() as reader:
            rows = _best(lambda: reader.select(Selection(), 50))
            story = _best(lambda: reader.record(ids[len(ids) // 2]))
            summary = _best(reader.summary)
            assert reader.totals() == {State.QUEUED: LARGE}
        print(f"of {LARGE} waiting: the list's first 50 in {rows * 1000:.1f} ms; goal {GOAL_LIST * 1000:.0f} ms")
        print(f"a story in {story * 1000:.2f} ms; goal {GOAL_STORY * 1000:.0f} ms; all counted in {summary:.2f} s")
        writer.close()


def _best(do: Callable[[], object]) -> float:
    """Seconds, the best of several."""
    times = []
    for _ in range(5):
        began = time.perf_counter()
        do()
        times.append(time.perf_counter() - began)
    return min(times)
