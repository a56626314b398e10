"""A queue that is damaged, made anew: from what can be read of its database, and from what its content says of itself.

What the database knows of a message counts. Where the database cannot tell, nobody knows whether a message was relayed
already: it is parked, so that an administrator decides, and none is sent twice or lost without a word.
"""

from __future__ import annotations

import os
import sqlite3
from collections.abc import Callable, Sequence
from contextlib import closing
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from copper_kite.errors import StoreError
from copper_kite.store.health import Lost, Rescued
from copper_kite.store.model import JournalEntry, Message, Recipient
from copper_kite.store.operations import AddContent, AddMessage, AddRecipient, Transaction, WriteEntry
from copper_kite.store.shared.encoding import PORTION_BITS, PORTIONS
from copper_kite.store.shared.rows import message_of_row, recipient_of_row
from copper_kite.store.sqlite.alone import write_alone
from copper_kite.store.sqlite.labels import Gap, labels
from copper_kite.store.sqlite.schema import DATABASE, SCHEMA
from copper_kite.store.sqlite.segments import Extents, segment_sizes
from copper_kite.words import Event, State

__all__ = ["UNKNOWN", "rescue"]

UNKNOWN = "rescued: nothing on record says whether it was relayed"
OPEN = frozenset({State.QUEUED, State.DELAYED, State.PARKED})
WANTED = OPEN | {State.FAILED}  # whose content is kept, for a while
AT_A_TIME = 4 * 1024 * 1024  # octets of content written together


@dataclass(slots=True)
class _Found:
    """The facts from the database or the labels. `whole` where they are complete."""

    whole: bool = True
    messages: dict[int, Message] = field(default_factory=dict)
    recipients: dict[int, dict[int, Recipient]] = field(default_factory=dict)
    portions: dict[int, dict[int, tuple[int, int, int]]] = field(default_factory=dict)  # segment, start, size

    @property
    def newest(self) -> int:
        """The highest id: what has a higher one came later than all of this."""
        return max(self.recipients, default=0)

    def add_message(self, message: Message) -> None:
        self.messages[message.id] = message

    def add_recipient(self, recipient: Recipient) -> None:
        self.recipients.setdefault(recipient.message, {})[recipient.number] = recipient

    def add_portion(self, place: int, segment: int, start: int, size: int) -> None:
        self.portions.setdefault(place >> PORTION_BITS, {})[place & PORTIONS] = (segment, start, size)


def rescue(folder: Path, into: Path, now: float) -> Rescued:
    """Make the queue in `folder` anew in `into`, which is empty or not there yet; `folder` stays as it is.

    No server may run on either. Raises StoreError.
    """
    if into.exists() and any(into.iterdir()):
        raise StoreError(str(into), "not empty", "name another folder with --into")
    rescued = Rescued()
    known, said = _of_database(folder, rescued), _of_labels(folder, rescued)
    rescued.unsure = not (known.whole or said.whole)
    batch: list[Transaction] = []
    octets = 0
    with Extents(folder) as extents:
        for id in sorted(known.recipients.keys() | known.messages.keys() | said.messages.keys()):
            recipients = _recipients(id, known, said, now)
            if not any(recipient.state in WANTED for recipient in recipients):
                rescued.ended += bool(recipients)
                continue
            try:
                operations, size = _of_message(id, recipients, known, said, extents)
            except OSError as error:
                extents.close()
                if not any(recipient.state in OPEN for recipient in recipients):
                    rescued.ended += 1
                    continue
                rescued.lost.append(Lost(id, known.messages.get(id) or said.messages.get(id), recipients, str(error)))
                continue
            is_parked = any(recipient.reply == UNKNOWN for recipient in recipients)
            rescued.parked += is_parked
            rescued.known += not is_parked
            batch.append(operations)
            octets += size
            if octets >= AT_A_TIME:
                _write(into, batch)
                batch, octets = [], 0
    facts = {"messages": rescued.known, "parked": rescued.parked, "lost": len(rescued.lost)}
    _write(into, [*batch, [WriteEntry(JournalEntry(at=now, event=Event.RESCUED, facts=facts))]])
    _give_to_owner(folder, into)
    return rescued


def _recipients(id: int, known: _Found, said: _Found, now: float) -> list[Recipient]:
    """A message's recipients: as the database has them, and where it cannot tell, parked."""
    recipients = known.recipients.get(id, {})
    if known.whole and id <= known.newest:
        return [*recipients.values()]  # what it does not know has ended long ago, or was never answered
    unknown = {
        number: result._replace(state=State.PARKED, next_try=None, reply=UNKNOWN, changed=now)
        for number, result in said.recipients.get(id, {}).items()
    }
    return [*(unknown | recipients).values()]


def _of_message(
    id: int, recipients: Sequence[Recipient], known: _Found, said: _Found, extents: Extents
) -> tuple[Transaction, int]:
    """The operations that add one message to an empty queue, and its octets. Raises OSError where some are missing."""
    message = known.messages.get(id) or said.messages.get(id)
    if message is None:
        raise OSError("nothing says who it is from")
    portions = known.portions.get(id) or said.portions.get(id, {})
    content = [extents.read(*portions[number]) for number in sorted(portions)]
    octets = sum(map(len, content))
    if octets != message.size:
        raise OSError(f"{octets} of its {message.size} octets are left")
    return [
        AddMessage(message, (), None),
        *(AddContent(id, number, portion) for number, portion in enumerate(content)),
        *map(AddRecipient, recipients),
    ], octets


def _write(into: Path, transactions: Sequence[Transaction]) -> None:
    faults = [fault for fault in write_alone(into, transactions) if fault is not None]
    if faults:
        raise StoreError(str(into), f"cannot be written ({faults[0][1]})")


def _of_labels(folder: Path, rescued: Rescued) -> _Found:
    result = _Found()
    for segment, _ in segment_sizes(folder):
        try:
            for label in labels(folder, segment):
                if isinstance(label, Gap):
                    result.whole = False
                    rescued.unread.append(
                        f"content/{segment:08}: {label.size} octets from {label.start} on say nothing of themselves"
                    )
                    continue
                for message in label.messages:
                    result.add_message(message)
                for recipient in label.recipients:
                    result.add_recipient(recipient)
                for portion in label.portions:
                    result.add_portion(*portion)
        except OSError as error:
            result.whole = False
            rescued.unread.append(f"content/{segment:08}: {error}")
    return result


# --- the database, as far as it can be read ------------------------------------------------------------------------


def _of_database(folder: Path, rescued: Rescued) -> _Found:
    result = _Found()
    path = folder / DATABASE
    if not path.exists():
        rescued.unread.append(f"{DATABASE}: it is missing")
        result.whole = False
        return result
    try:
        with closing(sqlite3.connect(f"{path.absolute().as_uri()}?mode=ro", uri=True)) as connection:
            (schema,) = connection.execute("PRAGMA user_version").fetchone()
            if schema != SCHEMA:
                raise sqlite3.DatabaseError(f"its schema is {schema}, not {SCHEMA}")
            _read_all(connection, result, rescued)
    except sqlite3.Error as error:
        rescued.unread.append(f"{DATABASE}: {error}")
        result.whole = False
    return result


def _read_all(connection: sqlite3.Connection, facts: _Found, rescued: Rescued) -> None:
    connection.execute(
        f"CREATE TEMP VIEW compact_content AS SELECT id << {PORTION_BITS} AS place, segment, start, size FROM compact"
    )
    takes: tuple[tuple[str, str, Callable[[Any], object]], ...] = (
        ("message", "id", lambda row: facts.add_message(message_of_row(row))),
        ("recipient", "message", lambda row: facts.add_recipient(recipient_of_row(row))),
        ("content", "place", lambda row: facts.add_portion(*row)),
        ("compact_message", "id", lambda row: facts.add_message(message_of_row(row))),
        ("compact_recipient", "message", lambda row: facts.add_recipient(recipient_of_row(row))),
        ("compact_content", "place",
         lambda row: facts.add_portion(*row)),
    )  # fmt: skip
    for table, order, take in takes:
        for direction in ("", " DESC"):  # from both ends, up to what is damaged
            try:
                for row in connection.execute(f"SELECT * FROM {table} ORDER BY {order}{direction}"):
                    take(row)
                break
            except (sqlite3.Error, ValueError, TypeError) as error:
                facts.whole = False
                if not direction:
                    rescued.unread.append(f"{DATABASE}, {table}: {error}")


def _give_to_owner(folder: Path, into: Path) -> None:
    """Give files that root made to the user that runs the server."""
    if os.geteuid():
        return
    owner = folder.stat()
    for path in (into, *into.rglob("*")):
        os.chown(path, owner.st_uid, owner.st_gid)
