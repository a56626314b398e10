"""Three times as many sessions as are let in, each wanting to submit mail at once: who is put off, and how fast; and
whether all that was taken arrives."""

from __future__ import annotations

import asyncio
import statistics
import tempfile
import time
from dataclasses import dataclass, field
from pathlib import Path

from bench.flood import CONTENT, ENVELOPE, Streams, say
from bench.site import configure, free_port, program
from bench.size import Monitoring
from copper_kite.net import make_authority
from copper_kite.store import open_store
from copper_kite.words import State

__all__ = ["overload"]

LIMIT, TIMES, SECONDS, EACH = 300, 3, 10.0, 5  # sessions let in, how many times as many, for how long, messages of each


@dataclass(slots=True)
class Count:
    """What became of sessions and messages; seconds from the connection, or the command, to the reply."""

    taken: int = 0
    put_off: list[float] = field(default_factory=list)
    lost: int = 0


async def one(port: int, until: float, count: Count) -> None:
    """Come again and again, as a program does that has mail; wait a little when put off."""
    while time.monotonic() < until:
        began = time.monotonic()
        try:
            streams = await asyncio.open_connection("127.0.0.1", port)
        except OSError:
            count.lost += 1
            continue
        try:
            line = await say(streams, b"", 1)
            if line[:1] == b"4":
                count.put_off.append(time.monotonic() - began)
            else:
                await hand_in(streams, count)
        except OSError:
            count.lost += 1
        finally:
            streams[1].transport.abort()
        await asyncio.sleep(0.5)


async def hand_in(streams: Streams, count: Count) -> None:
    """Some messages, each in lockstep; what is put off is counted with the time that the answer took."""
    await say(streams, b"EHLO busy.example\r\n", 1)
    for _ in range(EACH):
        for command in (*ENVELOPE.splitlines(keepends=True), CONTENT):
            began = time.monotonic()
            line = await say(streams, command % b"busy" if b"%" in command else command, 1)
            if line[:1] == b"4":
                count.put_off.append(time.monotonic() - began)
                return
        count.taken += 1


def waiting(folder: Path) -> tuple[int, int]:
    """Recipients relayed, and those that are not yet."""
    with open_store(folder).reader() as reader:
        totals = reader.totals()
    relayed = totals.pop(State.RELAYED, 0)
    return relayed, sum(totals.values())


async def press(port: int, count: Count) -> None:
    """All of them at once."""
    until = time.monotonic() + SECONDS
    await asyncio.gather(*(one(port, until, count) for _ in range(LIMIT * TIMES)))


def overload(folder: Path) -> None:
    """Print who was put off, and that the rest arrived."""
    count = Count()
    with tempfile.TemporaryDirectory(dir=folder) as name:
        here, port, hop = Path(name), free_port(), free_port()
        files = make_authority(here, ["localhost"])
        config = configure(here, port, hop)
        config.write_text(config.read_text().replace("[server]\n", f"[server]\nsessions = {LIMIT}\n"))
        with (
            program("bench.sink", str(hop), str(files.certificate), str(files.key), "100000000"),
            program("copper_kite", "--config", str(config), "serve", ready=b"is serving") as server,
        ):
            watch = Monitoring(server.pid)
            asyncio.run(press(port, count))
            queue, ends = here / "queue", time.monotonic() + 120
            while waiting(queue)[1] and time.monotonic() < ends:
                time.sleep(0.2)
            most, (relayed, left) = watch.end(), waiting(queue)
    slowest = max(count.put_off, default=0.0)
    typical = statistics.median(count.put_off) if count.put_off else 0.0
    offered = f"{LIMIT * TIMES} sessions at once where {LIMIT} are let in, for {SECONDS:.0f} s"
    print(
        f"{offered}: {count.taken} messages taken, {relayed} relayed, {left} left; put off {len(count.put_off)} times, "
        f"in {typical * 1000:.0f} ms (median), {slowest * 1000:.0f} ms at most; {count.lost} sessions lost; "
        f"at most {most:.0f} MiB resident"
    )
