"""The servers that share the queue: how one enters, and how the others take over what a dead one had."""

from __future__ import annotations

import secrets
from pathlib import Path

from copper_kite.errors import StoreError
from copper_kite.store.files import put_file
from copper_kite.store.ids import SLOTS
from copper_kite.store.place import StorePlace
from copper_kite.store.postgres.commit import Identity
from copper_kite.store.postgres.link import Database, Link

__all__ = ["adopt", "enter", "slot_of_name"]

LOCK_ENTRY = 7402
_IDENTITY = "store.id"  # in the data folder


def enter(connection: Database, place: StorePlace, now: float) -> Identity:
    """Be a server by the name of the place. What it had before is its own again, as far as nobody took it over.

    Raises StoreError where a living server has that name, psycopg.Error.
    """
    folder = _identity_of(place.folder)
    with connection.transaction():
        connection.execute("SELECT pg_advisory_xact_lock(%s, hashtext(current_schema()))", (LOCK_ENTRY,))
        row = connection.execute(
            "SELECT slot, folder, lease_until > now(),"
            " extract(epoch FROM greatest(lease_until, now()) - now())::float8"
            " FROM server WHERE name = %s",
            (place.server,),
        ).fetchone()
        if row is not None and row[1] not in ("", folder) and row[2]:
            raise StoreError(
                str(place),
                f"a server named {place.server} is at work on it, with another data folder (for {row[3]:.0f} s yet)",
                "give each server its own [server] name",
            )
        slot = _free_slot(connection, place) if row is None else row[0]
        connection.execute("DELETE FROM given WHERE server = %s", (slot,))  # what waits is looked for as a whole
        result = connection.execute(_ENTER, (slot, place.server, folder, place.lease, place.lease, now)).fetchone()
    assert result is not None
    return Identity(slot, result[0])


def slot_of_name(connection: Database, place: StorePlace) -> int:
    """The slot of a server, which need not run; one that never did gets it now. Raises StoreError, psycopg.Error."""
    with connection.transaction():
        connection.execute("SELECT pg_advisory_xact_lock(%s, hashtext(current_schema()))", (LOCK_ENTRY,))
        row = connection.execute("SELECT slot FROM server WHERE name = %s", (place.server,)).fetchone()
        if row is not None:
            return int(row[0])
        slot = _free_slot(connection, place)
        connection.execute(_ENTER, (slot, place.server, "", 0.0, place.lease, 0.0))
        return slot


_ENTER = (
    "INSERT INTO server (slot, name, folder, epoch, lease_until, lease_seconds, batch, since)"
    " VALUES (%s, %s, %s, 1, now() + %s * interval '1 second', %s, 0, %s)"
    " ON CONFLICT (slot) DO UPDATE SET folder = excluded.folder, epoch = server.epoch + 1,"
    " lease_until = excluded.lease_until, lease_seconds = excluded.lease_seconds, batch = 0, since = excluded.since,"
    " waiting = 0, drained = true RETURNING epoch"
)


def _free_slot(connection: Database, place: StorePlace) -> int:
    used = {slot for (slot,) in connection.execute("SELECT slot FROM server")}
    for slot in range(1, SLOTS):  # 0 is for commands
        if slot not in used:
            return slot
    raise StoreError(str(place), f"{SLOTS - 1} servers share it already, and more cannot", "")


def _identity_of(folder: Path) -> str:
    """What tells this data folder from that of another machine. Raises StoreError."""
    file = folder / _IDENTITY
    try:
        if not file.exists():
            folder.mkdir(mode=0o700, parents=True, exist_ok=True)
            put_file(file, secrets.token_hex(16), durable=True)
        return file.read_text("ascii")
    except OSError as error:
        raise StoreError(str(folder), f"not writable ({error.strerror})", "run as its owner") from error


def adopt(link: Link, me: Identity, limit: int) -> list[int]:
    """Take over messages of servers whose lease is over, `limit` at most; their ids. Raises StoreError."""
    # First the epoch of the dead rises, which keeps it from writing anything more; only then its messages get another
    # owner. Several servers do this at once, each for the rows that no other has locked.
    dead = [slot for (slot,) in link.rows(_DECLARE_DEAD)]
    dead = dead or [slot for (slot,) in link.rows("SELECT slot FROM server WHERE NOT drained ORDER BY slot")]
    for slot in dead:
        ids = [id for (id,) in link.rows(_ADOPT, (me.slot, me.epoch, slot, limit, me.slot))]
        if ids:
            return ids
        link.do(_DRAINED, (slot, slot))
    return []


_DECLARE_DEAD = (
    "UPDATE server SET epoch = epoch + 1, lease_until = '-infinity', drained = false"
    " WHERE slot IN (SELECT slot FROM server WHERE lease_until < now() AND lease_until > '-infinity'"
    " FOR UPDATE SKIP LOCKED) RETURNING slot"  # one that is locked is just extending it
)
_ADOPT = (
    "WITH alive AS (SELECT 1 FROM server WHERE slot = %s AND epoch = %s AND lease_until > now()), taken AS ("
    " SELECT m.id FROM content c JOIN message m ON m.id = c.message"
    " WHERE c.portion = 0 AND m.owner = %s AND EXISTS (SELECT 1 FROM alive)"
    " ORDER BY c.message LIMIT %s FOR UPDATE OF m SKIP LOCKED)"
    " UPDATE message SET owner = %s FROM taken WHERE message.id = taken.id RETURNING message.id"
)
# Content of messages that never came to be goes with the server that took them in.
_DRAINED = (
    "WITH stray AS (DELETE FROM growing WHERE message & 63 = %s RETURNING message),"
    " gone AS (DELETE FROM content WHERE message IN (SELECT message FROM stray))"
    " UPDATE server SET drained = true WHERE slot = %s AND lease_until = '-infinity' AND NOT EXISTS ("
    " SELECT 1 FROM content c JOIN message m ON m.id = c.message WHERE c.portion = 0 AND m.owner = server.slot)"
)
