"""What it takes to carry much: memory for one large message, for a long queue, and time beside a host that is dead."""

from __future__ import annotations

import smtplib
import sqlite3
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable
from pathlib import Path

from bench.site import configure, free_port, program, swallowing
from copper_kite.net import make_authority
from copper_kite.store import AddMessage, IdMaker, Message, Recipient
from copper_kite.store.shared.batch import Batch
from copper_kite.store.shared.encoding import encode
from copper_kite.store.shared.shared_buffer import summed
from copper_kite.store.sqlite.commit import commit
from copper_kite.store.sqlite.labels import keep
from copper_kite.store.sqlite.schema import connect_writer, identity_of
from copper_kite.store.sqlite.segments import Segments

__all__ = ["QUEUED", "SIZES", "hand_in_many"]

MIB = 1024 * 1024
QUEUED = 100_000
MANY = 1_000_000
HEADER = b"From: t@ternferries.example\r\nSubject: large\r\n\r\n"
LINE = b"0123456789" * 7 + b"\r\n"


def resident(pid: int) -> float:
    """MiB of a process and its children."""
    pids = [pid, *map(int, Path(f"/proc/{pid}/task/{pid}/children").read_text().split())]
    return sum(_resident(item) for item in pids)


def _resident(pid: int) -> float:
    line = next(line for line in Path(f"/proc/{pid}/status").read_text().splitlines() if line.startswith("VmRSS"))
    return int(line.split()[1]) / 1024


class Monitoring(threading.Thread):
    """The most that a process takes while it is watched."""

    def __init__(self, pid: int) -> None:
        super().__init__(daemon=True)
        self._pid, self._over = pid, threading.Event()
        self.most = 0.0
        self.start()

    def run(self) -> None:
        while not self._over.wait(0.02):
            self.most = max(self.most, resident(self._pid))

    def end(self) -> float:
        """Watch no longer; the most in MiB."""
        self._over.set()
        self.join()
        return self.most


def hand_in(port: int, recipient: str, content: bytes = HEADER + b"x\r\n") -> float:
    """Hand one message in; the seconds it took."""
    began = time.monotonic()
    with smtplib.SMTP("127.0.0.1", port) as client:
        client.sendmail("t@ternferries.example", [recipient], content)
    return time.monotonic() - began


def large(folder: Path) -> None:
    """One message of 100 MB, accepted and relayed over TLS with a login."""
    with tempfile.TemporaryDirectory(dir=folder) as name:
        here, port, hop = Path(name), free_port(), free_port()
        files = make_authority(here, ["localhost"])
        config = configure(here, port, hop)
        with (
            program("bench.sink", str(hop), str(files.certificate), str(files.key), "2") as sink,
            program("copper_kite", "--config", str(config), "serve", ready=b"is serving") as server,
        ):
            hand_in(port, "a@passenger.example")
            time.sleep(1)
            idle, watch = resident(server.pid), Monitoring(server.pid)
            seconds = hand_in(port, "b@passenger.example", HEADER + LINE * (100_000_000 // len(LINE)))
            assert sink.stdout is not None
            sink.stdout.readline()
            most = watch.end()
        print(
            f"100 MB: accepted in {seconds:.1f} s; idle {idle:.0f} MiB, at most {most:.0f}: "
            f"{most - idle:.0f} above; goal 40"
        )


def queued(folder: Path) -> None:
    """A million messages wait for a next hop that refuses connections."""
    with tempfile.TemporaryDirectory(dir=folder) as name:
        here, port, hop = Path(name), free_port(), free_port()
        make_authority(here, ["localhost"])
        config = configure(here, port, hop)
        hand_in_many(here / "queue", MANY, 300)
        began = time.monotonic()
        with program("copper_kite", "--config", str(config), "serve", ready=b"is serving") as server:
            seconds, watch = time.monotonic() - began, Monitoring(server.pid)
            time.sleep(10)
            most = watch.end()
        print(f"{MANY} queued: started in {seconds:.2f} s (goal 3), at most {most:.0f} MiB in 10 s (goal 150)")


def hand_in_many(folder: Path, count: int, octets: int = 4096, user: str = "") -> None:
    """Messages of so many octets, as the server keeps what has just come: all due now."""
    connection = connect_writer(folder)
    segments = Segments(folder, identity_of(connection))
    ids, now = IdMaker(0), time.time()
    content = HEADER + LINE * (octets // len(LINE))
    size, kept = len(content), content + summed(content)
    each = len(kept)
    for start in range(0, count, 1000):
        batch = []
        for number in range(1000):
            id = ids.next(now)
            message = Message(
                id, now, now + 432000, "t@ternferries.example", size, False, False, "<m@x>", "programs",
                "127.0.0.1", "t", user, "ESMTP",
            )  # fmt: skip
            recipients = [Recipient(id, 1, f"name.number{start + number}@passenger.example", connector="sink")]
            fresh = AddMessage(message, recipients, content)
            batch.append(encode([fresh], lambda _, at=number * each: at)[0][1])
        at = keep(connection, segments, kept * len(batch), batch, ())
        assert not any(commit(connection, Batch(at, batch)))
    segments.leave()
    connection.close()


def dead(folder: Path) -> None:
    """1,000 messages for a host that swallows packets, and then one for a live host."""
    with tempfile.TemporaryDirectory(dir=folder) as name, swallowing() as address:
        here, port, hop = Path(name), free_port(), free_port()
        files = make_authority(here, ["localhost"])
        extra = f'[[connector]]\nname = "dead"\nrecipients = ["dead.example"]\nhosts = ["{address}"]\ntls = "off"\n'
        config = configure(here, port, hop, extra)
        with (
            program("bench.sink", str(hop), str(files.certificate), str(files.key), "1") as sink,
            program("copper_kite", "--config", str(config), "serve", ready=b"is serving"),
        ):
            with smtplib.SMTP("127.0.0.1", port) as client:
                for number in range(1000):
                    client.sendmail("t@ternferries.example", [f"r{number}@dead.example"], HEADER + b"x\r\n")
            began = time.monotonic()
            hand_in(port, "a@passenger.example")
            assert sink.stdout is not None
            seconds = float(sink.stdout.readline()) - began
        attempts = _count(here / "queue" / "queue.sqlite", "SELECT count(*) FROM attempt WHERE connector = 'dead'")
        print(
            f"beside 1,000 for a dead host, one for a live host left in {seconds * 1000:.0f} ms; "
            f"attempts at the dead: {attempts}"
        )


def pipe(folder: Path) -> None:
    """`kite pipe`, from start to exit, beside `python -c "import socket"`."""
    with tempfile.TemporaryDirectory(dir=folder) as name:
        here, port = Path(name), free_port()
        make_authority(here, ["localhost"])
        config = configure(here, port, free_port())
        config.write_text(config.read_text().replace('bind = ["', f'bind = ["unix:{here}/s.sock", "'))
        command = [str(Path(sys.executable).with_name("kite")), "--config", str(config), "pipe", "a@passenger.example"]
        with program("copper_kite", "--config", str(config), "serve", ready=b"is serving"):
            yardstick, kite = best([sys.executable, "-c", "import socket"]), best(command)
    ratio = kite / yardstick
    print(f"import socket {yardstick * 1000:.0f} ms   kite pipe {kite * 1000:.0f} ms   {ratio:.2f}; goal 2.50 at most")


def best(command: list[str]) -> float:
    """Seconds from start to exit, the best of several."""
    result = 60.0
    for _ in range(15):
        began = time.perf_counter()
        subprocess.run(command, input=b"hello\n", check=True)
        result = min(result, time.perf_counter() - began)
    return result


def _count(database: Path, question: str) -> int:
    with sqlite3.connect(database) as connection:
        return int(connection.execute(question).fetchone()[0])


SIZES: dict[str, Callable[[Path], None]] = {"large": large, "queued": queued, "dead": dead, "pipe": pipe}
