"""The move of a queue from one store to another: from a data folder into the database that servers share, and back."""

from __future__ import annotations

import contextlib
from typing import NamedTuple

from copper_kite.errors import KiteError, NotFound
from copper_kite.store import (
    AddContent,
    AddMessage,
    Attempt,
    FolderLock,
    Forget,
    HandOver,
    Operation,
    Reader,
    Record,
    RecordAttempt,
    SendBy,
    ServerReads,
    SetState,
    StorePlace,
    WriteEntry,
    open_store,
)
from copper_kite.words import State

__all__ = ["Moved", "is_there", "move_queue", "transaction_of"]


class Moved(NamedTuple):
    """How many messages were moved, and how many of them had been before, by a move that was cut off."""

    messages: int
    before: int


def move_queue(source: StorePlace, target: StorePlace, now: float) -> Moved:
    """Move what waits in one store for this server to another, with its story. Each message is written there first, and
    then forgotten here: a move that is cut off is carried on by the next one, and nothing comes twice.

    Raises FolderInUse where the server runs, StoreError, StoreFull, StoreFailed.
    """
    there, here = open_store(target), open_store(source)
    moved = before = 0
    with contextlib.closing(FolderLock(source.folder, now)):
        there.upgrade()
        with here.reader() as reader, there.reader() as found:
            ids = reader.waiting_of(source.server)
            _done(here.write([[HandOver(0, ids)]]))  # where servers share it, none takes them over meanwhile
            for id in ids:
                if is_there(found, id):
                    before += 1
                else:
                    _done(there.write([transaction_of(reader.record(id), reader)]))
                _done(here.write([[Forget(id)]]))
                moved += 1
    return Moved(moved, before)


def is_there(reader: ServerReads, id: int) -> bool:
    """Whether a message is known."""
    try:
        reader.recipients(id)
    except NotFound:
        return False
    return True


def _done(errors: list[KiteError | None]) -> None:
    for error in errors:
        if error is not None:
            raise error


def transaction_of(record: Record, reader: Reader) -> list[Operation]:
    """All that is known of a message, as operations: it comes, and goes on to where it is."""
    message, recipients = reader.recipients(record.message.id)
    operations: list[Operation] = [AddMessage(message, recipients, None)]
    operations += [AddContent(message.id, number, octets) for number, octets in enumerate(reader.content(message.id))]
    for recipient in recipients:
        if recipient.attempts or recipient.state is not State.QUEUED:
            operations.append(
                SetState(
                    message.id, recipient.number, recipient.state, recipient.attempts, recipient.next_try,
                    recipient.connector, recipient.reply, recipient.changed, recipient.next_hop,
                )
            )  # fmt: skip
        if recipient.via:
            operations.append(SendBy(recipient.via, message.id, recipient.number))
    operations += [RecordAttempt(attempt) for attempt in record.attempts if _was_made(attempt)]
    operations += [WriteEntry(entry) for entry in record.journal]
    return operations


def _was_made(attempt: Attempt) -> bool:
    """Whether it is an attempt, and not what people are shown of a recipient that only waits in its lane."""
    return attempt.id > 0
