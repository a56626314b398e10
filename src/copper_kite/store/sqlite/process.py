"""The process that writes: it takes batches of rows from a channel, commits each, and answers with its faults.

The content that the rows name is made stable first (`store.segments`).

It ends when the channel does, however the server at the other end dies: what had come in whole by then is committed,
and the lock of the folder, which it holds too, is let go only after that.
"""

from __future__ import annotations

import contextlib
import socket
import sqlite3
import sys
from collections.abc import Sequence
from pathlib import Path

from copper_kite.errors import StoreError
from copper_kite.store.ballast import Ballast
from copper_kite.store.shared.batch import FAILED, FULL, Batch, Fault
from copper_kite.store.shared.channel import Channel, become_writer, start_writing_process
from copper_kite.store.shared.encoding import SWEEP, has_content
from copper_kite.store.shared.shared_buffer import SharedBuffer
from copper_kite.store.sqlite.commit import commit, failure, holds_content, used_segments
from copper_kite.store.sqlite.labels import keep
from copper_kite.store.sqlite.schema import connect_writer, identity_of
from copper_kite.store.sqlite.segments import Segments
from copper_kite.store.sqlite.witness import Witness

__all__ = ["serve", "start_process"]

WORTH_TIDYING = 16 * 1024 * 1024  # octets in a file of which nothing is wanted any more


def start_process(folder: Path, keep: Sequence[int] = ()) -> tuple[Channel, SharedBuffer]:
    """Start the process for the database in `folder`; it holds the file descriptors in `keep` open as long as it lives.

    Returns what leads to it: rows go by the channel, content by the memory. Raises StoreError and SchemaTooNew as
    `connect_writer` does.
    """
    _look_at(folder)
    return start_writing_process("copper_kite.store.sqlite.process", [str(folder)], keep)


def _look_at(folder: Path) -> None:
    """Open the database once, so that what is wrong with it shows as an error; on a full disk, without the ballast."""
    try:
        connect_writer(folder).close()
    except StoreError:
        if not Ballast(folder).give_up():
            raise
        connect_writer(folder).close()


def serve(channel: Channel, connection: sqlite3.Connection, folder: Path, handed: SharedBuffer) -> None:
    """Commit batch after batch, until the other end is gone."""
    segments, segment, ballast = Segments(folder, identity_of(connection)), 0, Ballast(folder)
    ballast.lay_in()
    witness = Witness(folder)
    while (batch := channel.receive()) is not None:
        # Order is what makes it durable: content first, synced; then the rows that name it, committed; then the look
        # whether the files still are those that were opened; and only then the answer, on which a 250 may follow.
        octets, *given = batch
        waiting = Batch((0, 0), *given)
        try:
            at = keep(connection, segments, handed.memory[:octets], waiting.additions, waiting.others)
        except OSError as error:
            channel.send(_without_content(connection, failure(error), waiting, ballast))
            continue
        waiting = waiting._replace(at=at)
        faults = commit(connection, waiting)
        if gone := witness.gone() or ("the folder content" if segments.gone else ""):
            channel.send([(FAILED, f"{gone} is gone, or is another one")] * len(faults))
            sys.stderr.write(f"kite: {gone} was deleted or replaced while the server ran: nothing can be kept\n")
            return
        channel.send(_on_ballast(connection, waiting, faults, ballast))
        # The answer has gone: what follows delays only the next batch. A file of content goes as a whole, and only when
        # the committed rows name nothing in it.
        with contextlib.suppress(sqlite3.Error, OSError):  # what is not tidied now is tidied another time
            swept = any(number == SWEEP for steps in waiting.others for number, _ in steps)
            ended = waiting.relayed or waiting.others
            swept = swept or bool(segments.end > WORTH_TIDYING and ended and not holds_content(connection))
            if swept:
                segments.leave()
            if swept or at[0] > segment:
                segment = max(segment, at[0])
                segments.sweep(used_segments(connection))
            if swept:
                ballast.lay_in()
    with contextlib.suppress(sqlite3.Error, OSError):
        segments.leave()
        segments.sweep(used_segments(connection))
    connection.close()


def _on_ballast(
    connection: sqlite3.Connection, batch: Batch, faults: list[Fault | None], ballast: Ballast
) -> list[Fault | None]:
    """Commit what found the disk full in the room of the ballast, except new messages."""
    first = len(batch.additions)
    if not any(fault is not None and fault[0] == FULL for fault in faults[first:]) or not ballast.give_up():
        return faults
    again = [number for number, fault in enumerate(faults[first:]) if fault is not None and fault[0] == FULL]
    relayed = [batch.relayed[number] for number in again if number < len(batch.relayed)]
    others = [batch.others[number - len(batch.relayed)] for number in again if number >= len(batch.relayed)]
    for number, fault in zip(again, commit(connection, Batch(batch.at, (), relayed, others)), strict=True):
        faults[first + number] = fault
    return faults


def _without_content(
    connection: sqlite3.Connection, fault: Fault, batch: Batch, ballast: Ballast
) -> list[Fault | None]:
    """Content could not be written: what has some is kept out, the rest is committed."""
    rest = Batch(relayed=batch.relayed, others=[steps for steps in batch.others if not has_content(steps)])
    faults = iter(_on_ballast(connection, rest, commit(connection, rest), ballast))
    return [
        *([fault] * len(batch.additions)),
        *(next(faults) for _ in batch.relayed),
        *(fault if has_content(steps) else next(faults) for steps in batch.others),
    ]


def main(folder: str, descriptor: str, handed: str) -> None:
    """The process. What stops the server must not stop it before the server is done."""
    become_writer()
    channel = Channel(socket.socket(fileno=int(descriptor)))
    serve(channel, connect_writer(Path(folder)), Path(folder), SharedBuffer(int(handed)))


if __name__ == "__main__":
    main(*sys.argv[1:])
