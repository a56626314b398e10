"""Labels of content: each precedes the octets that were written together, so that they can be identified when the
database is lost.

A label holds the rows of new messages with their recipients, and where each portion stands after it. It begins with
the identity of the data folder, which no sender knows: so what a message holds never passes for a label.
"""

from __future__ import annotations

import json
import mmap
import sqlite3
import struct
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any, NamedTuple
from zlib import crc32

from copper_kite.store.model import Message, Recipient
from copper_kite.store.shared.encoding import (
    ADD_CONTENT,
    ADD_MESSAGE,
    ADD_RECIPIENT,
    MOVE_CONTENT,
    PORTION_BITS,
    Row,
    Steps,
)
from copper_kite.store.shared.rows import recipient_of_row
from copper_kite.store.sqlite.segments import IDENTITY_OCTETS, LABELLED, Extent, Segments, segment_path

__all__ = ["Gap", "Label", "keep", "labels"]

_HEAD = struct.Struct(f">{IDENTITY_OCTETS}sIII")  # identity, octets of the label, octets after it, CRC-32 of these
_sum = struct.Struct(">II").pack
_dumps = json.JSONEncoder(separators=(",", ":"), check_circular=False).encode

_MOVED = (
    ("messages", "SELECT * FROM message WHERE id = ?1 UNION ALL SELECT * FROM compact_message WHERE id = ?1"),
    ("recipients", "SELECT * FROM recipient WHERE message = ?1 UNION ALL"
                   " SELECT * FROM compact_recipient WHERE message = ?1"),
)  # fmt: skip


_LABELLED = {ADD_MESSAGE: "fresh", ADD_RECIPIENT: "recipients", ADD_CONTENT: "portions"}


class Label(NamedTuple):
    """A batch: new messages with their recipients, and portions as (place, segment, start, size)."""

    messages: list[Message]
    recipients: list[Recipient]
    portions: list[tuple[int, int, int, int]]


class Gap(NamedTuple):
    """Octets of a segment that are in no batch that can be read: from `start`, so many."""

    segment: int
    start: int
    size: int


def keep(
    connection: sqlite3.Connection,
    segments: Segments,
    octets: bytes | bytearray | memoryview,
    fresh: Sequence[Row],
    others: Sequence[Steps],
) -> Extent:
    """Write the content of a batch to stable storage after its label, before its rows are committed; its places.

    Raises OSError.
    """
    label = _label_of(connection, segments.identity, len(octets), fresh, others)
    return segments.append(octets, label) if label else (0, 0)


def _label_of(
    connection: sqlite3.Connection,
    identity: bytes,
    octets: int,
    fresh: Sequence[Row],
    others: Sequence[Steps],
) -> bytes:
    """The label of a batch with so many octets of content; empty where there is nothing to be said of it.

    What is moved is labelled with all that is known of its message by now.
    """
    said: dict[str, list[Any]] = {"fresh": list(fresh)} if fresh else {}
    for number, row in (step for steps in others for step in steps):
        if number in _LABELLED:
            said.setdefault(_LABELLED[number], []).append(row)
        elif number == MOVE_CONTENT:
            start, where, size = row
            said.setdefault("portions", []).append((where, start, size))
            for name, statement in _MOVED:
                said.setdefault(name, []).extend(connection.execute(statement, (where >> PORTION_BITS,)))
    if not said:
        return b""
    text = _dumps(said).encode()
    return _HEAD.pack(identity, len(text), octets, _sum_of(octets, text)) + text


def _sum_of(octets: int, text: bytes) -> int:
    return crc32(text, crc32(_sum(len(text), octets)))


def labels(folder: Path, segment: int) -> Iterator[Label | Gap]:
    """The batches of a segment, in the order of their writing, with the gaps between them. Raises OSError.

    A segment of a release that wrote no labels is one gap.
    """
    with segment_path(folder, segment).open("rb") as file:
        head = file.read(len(LABELLED) + IDENTITY_OCTETS)
        end = file.seek(0, 2)
        if len(head) < len(LABELLED) + IDENTITY_OCTETS or not head.startswith(LABELLED):
            if end:
                yield Gap(segment, 0, end)
            return
        with mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ) as data:
            yield from _batches(data, segment, head[len(LABELLED) :], len(head))


def _batches(data: mmap.mmap, segment: int, identity: bytes, start: int) -> Iterator[Label | Gap]:
    while start < len(data):
        batch = _batch(data, segment, identity, start)
        if batch is None:
            after = data.find(identity, start + 1)
            end = after if after >= 0 else len(data)
            yield Gap(segment, start, end - start)
            start = end
        else:
            label, start = batch
            yield label


def _batch(data: mmap.mmap, segment: int, identity: bytes, start: int) -> tuple[Label, int] | None:
    """The batch that begins at `start`, and where the next one does; None where none does."""
    begin = start + _HEAD.size
    if begin > len(data):
        return None
    result, length, octets, total = _HEAD.unpack_from(data, start)
    text = data[begin : begin + length]
    if result != identity or total != _sum_of(octets, text):
        return None
    said = json.loads(text)
    base = begin + length
    messages = [Message(*row) for row in said.get("messages", ())]
    recipients = [recipient_of_row(row) for row in said.get("recipients", ())]
    portions = [(place, segment, base + at, size) for place, at, size in said.get("portions", ())]
    for row, of, at, _ in said.get("fresh", ()):
        message = Message(*row)
        messages.append(message)
        recipients += [_waiting(message, *item) for item in of]
        if at is not None:
            portions.append((message.id << PORTION_BITS, segment, base + at, message.size))
    return Label(messages, recipients, portions), base + octets


def _waiting(message: Message, number: int, address: str, parameters: str, connector: str = "") -> Recipient:
    at = message.arrived
    return Recipient(
        message.id, number, address, next_try=at, connector=connector, changed=at, esmtp_parameters=parameters
    )
