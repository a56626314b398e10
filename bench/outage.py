"""A next hop that is down, or slow: what that costs, and who waits for whom."""

from __future__ import annotations

import argparse
import smtplib
import sqlite3
import statistics
import tempfile
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from contextlib import ExitStack
from pathlib import Path

from bench.site import configure, free_port, program, swallowing
from bench.size import HEADER, hand_in_many
from bench.turns import processor_seconds
from copper_kite.net import make_authority
from copper_kite.store import open_store
from copper_kite.words import State

__all__ = ["fair", "handing", "outage"]

Load = Callable[[int], float]  # seconds to submit all messages at a port
WAIT = 5.0  # seconds from one retry to the next
RETRIES = 3
WAITING = (1_000, 10_000, 100_000, 1_000_000)
OCTETS = 300


def accept(folder: Path, how: str, messages: int, load: Load) -> float:
    """Messages a second that are accepted while the smart host is up, refuses connections, or swallows packets."""
    with ExitStack() as stack:
        here, port, hop = Path(stack.enter_context(tempfile.TemporaryDirectory(dir=folder))), free_port(), free_port()
        files = make_authority(here, ["localhost"])
        config = configure(here, port, hop)
        if how == "swallows":
            address = stack.enter_context(swallowing())
            config.write_text(config.read_text().replace(f"localhost:{hop}", address))
        elif how == "up":
            words = (str(hop), str(files.certificate), str(files.key), str(10 * messages))
            stack.enter_context(program("bench.sink", *words))
        stack.enter_context(program("copper_kite", "--config", str(config), "serve", ready=b"is serving"))
        return messages / load(port)


def outage(arguments: argparse.Namespace, load: Load) -> None:
    """Print both: accept while the host is down beside accept while it is up, and the cost of a retry."""
    folder, messages = Path(arguments.folder), arguments.messages
    ratios: dict[str, list[float]] = {"refuses": [], "swallows": []}
    after = accept(folder, "up", messages, load)
    for number in range(1, arguments.rounds + 1):
        for how, found in ratios.items():
            before, down = after, accept(folder, how, messages, load)
            after = accept(folder, "up", messages, load)
            found.append(2 * down / (before + after))
            print(f"round {number}: up {(before + after) / 2:7.0f} msgs/s   {how} {down:7.0f}   {found[-1]:.3f}")
    for how, found in ratios.items():
        print(f"accept while the smart host {how}: {statistics.median(found):.3f} of that while it is up; goal 0.90")
    for count in WAITING:
        retry(folder, count)


def retry(folder: Path, count: int) -> None:
    """Print what each retry of a connector writes and takes, with so many messages waiting for it."""
    with tempfile.TemporaryDirectory(dir=folder) as name:
        here, port, hop = Path(name), free_port(), free_port()
        make_authority(here, ["localhost"])
        config = configure(here, port, hop, f'[retry]\nwaits = ["{WAIT:.0f}s"]\n')
        hand_in_many(here / "queue", count, OCTETS)
        with program("copper_kite", "--config", str(config), "serve", ready=b"is serving") as server:
            time.sleep(WAIT + count / 20_000)  # until all of it is looked through
            before, used = _written(here / "queue"), processor_seconds(server)
            began = time.monotonic()
            time.sleep(RETRIES * WAIT * 1.1)
            after, used = _written(here / "queue"), processor_seconds(server) - used
            seconds = time.monotonic() - began
        attempts = after[0] - before[0]
        print(
            f"{count:9} waiting: {attempts} attempts in {seconds:.0f} s, and {after[1] - before[1]} messages written"
            f" anew; {1000 * used / max(attempts, 1):.0f} ms of the processors for each"
        )


def _written(folder: Path) -> tuple[int, int]:
    """Attempts, and messages that are not as they came any more."""
    with sqlite3.connect(folder / "queue.sqlite") as connection:
        return tuple(
            connection.execute(f"SELECT count(*) FROM {table}").fetchone()[0] for table in ("attempt", "message")
        )


SESSIONS, HANDING_SECONDS, CALM_SECONDS = 30, 20.0, 44.0


def handing(folder: Path) -> None:
    """Print how programs fare while the smart host is down: 30 sessions as fast as they can, then one at a time."""
    with tempfile.TemporaryDirectory(dir=folder) as name:
        here, port, hop = Path(name), free_port(), free_port()
        make_authority(here, ["localhost"])
        config = configure(here, port, hop, '[retry]\nwaits = ["10s"]\n')
        with program("copper_kite", "--config", str(config), "serve", ready=b"is serving"):
            with ThreadPoolExecutor(SESSIONS) as pool:
                until = time.monotonic() + HANDING_SECONDS
                fast = list(pool.map(lambda _: _hand_in(port, until, 0.0), range(SESSIONS)))
            calm = _hand_in(port, time.monotonic() + CALM_SECONDS, 0.2)
            with open_store(here / "queue").reader() as reader:
                waiting, attempts = sum(reader.totals().values()), _written(here / "queue")[0]
        for what, found in (("at once", [item for some in fast for item in some]), ("one every 0.2 s", calm)):
            refused = sum(code != 250 for code, _ in found)
            slowest = max(seconds for _, seconds in found)
            print(
                f"{what}: {len(found)} messages, {refused} not taken, the slowest reply after {slowest * 1000:.0f} ms"
            )
        print(f"{waiting} wait after {attempts} attempts")


def _hand_in(port: int, until: float, pause: float) -> list[tuple[int, float]]:
    """What each message was answered, and the longest that any of its commands took, in seconds."""
    result = []
    with smtplib.SMTP("127.0.0.1", port) as client:
        client.ehlo()
        while time.monotonic() < until:
            slowest, code = 0.0, 0
            for act in (
                lambda: client.mail("t@ternferries.example"),
                lambda: client.rcpt("a@passenger.example"),
                lambda: client.data(HEADER + b"x\r\n"),
            ):
                began = time.monotonic()
                code = act()[0]
                slowest = max(slowest, time.monotonic() - began)
            result.append((code, slowest))
            time.sleep(pause)
    return result


def fair(folder: Path) -> None:
    """Print how long another sender's messages take behind 50,000 of one sender, at 100 a second."""
    with tempfile.TemporaryDirectory(dir=folder) as name:
        here, port, hop = Path(name), free_port(), free_port()
        files = make_authority(here, ["localhost"])
        config = configure(here, port, hop, listener="choose_priority = true\n")
        hand_in_many(here / "queue", 50_000, OCTETS, user="rota")
        with (
            program("bench.sink", str(hop), str(files.certificate), str(files.key), "1000000", "0.01"),
            program("copper_kite", "--config", str(config), "serve", ready=b"is serving"),
        ):
            time.sleep(5)
            for priority, goal in (("4", 1.0), ("0", 2.0), ("-4", 0.0)):
                waits = [_seconds(here / "queue", port, priority) for _ in range(10)]
                told = f"; goal {goal:.0f} s" if goal else ""
                print(f"priority {priority:>2}: left after {max(waits) * 1000:.0f} ms at most, of 10{told}")
            with open_store(here / "queue").reader() as reader:
                totals = reader.totals()
            print(f"meanwhile: {totals[State.RELAYED]} relayed, {totals[State.QUEUED]} wait")


def _seconds(folder: Path, port: int, priority: str) -> float:
    """From submitting a message to its being relayed."""
    began = time.monotonic()
    with smtplib.SMTP("127.0.0.1", port) as client:
        client.ehlo()
        client.mail("tidewatch@ternferries.example", [f"MT-PRIORITY={priority}"])
        client.rcpt("duty@passenger.example")
        code, said = client.data(HEADER + b"x\r\n")
    assert code == 250, said
    with open_store(folder).reader() as reader:
        id = reader.resolve(said.split()[-1].decode())
        while reader.recipients(id)[1][0].state is not State.RELAYED:
            time.sleep(0.005)
    return time.monotonic() - began
