"""The tables, as an ordered list of migrations; each runs once, and all that are due in one transaction."""

from __future__ import annotations

import errno
import os
import re
import sqlite3
import stat
from pathlib import Path

from copper_kite.errors import SchemaTooNew, StoreError
from copper_kite.store.shared.shared_buffer import summed
from copper_kite.store.sqlite.segments import Segments, identity_in, read_without_sum, segment_sizes

__all__ = [
    "DATABASE",
    "MIGRATIONS",
    "SCHEMA",
    "connect_reader",
    "connect_writer",
    "identity_of",
    "migrate",
]

DATABASE = "queue.sqlite"

MIGRATIONS: tuple[str, ...] = (
    """
    CREATE TABLE message (
        id INTEGER PRIMARY KEY,
        arrived REAL NOT NULL,
        expires REAL NOT NULL,
        reverse_path TEXT NOT NULL,
        size INTEGER NOT NULL,
        eight_bit INTEGER NOT NULL,
        utf8 INTEGER NOT NULL,
        message_id TEXT NOT NULL,
        listener TEXT NOT NULL,
        client TEXT NOT NULL,
        hello TEXT NOT NULL,
        user TEXT NOT NULL,
        protocol TEXT NOT NULL
    );
    CREATE TABLE recipient (
        message INTEGER NOT NULL,
        number INTEGER NOT NULL,
        address TEXT NOT NULL,
        state TEXT NOT NULL,
        attempts INTEGER NOT NULL,
        next_try REAL,
        connector TEXT NOT NULL,
        reply TEXT NOT NULL,
        changed REAL NOT NULL,
        PRIMARY KEY (message, number)
    ) WITHOUT ROWID;
    CREATE INDEX recipient_open ON recipient (next_try) WHERE state IN ('queued', 'delayed', 'parked');
    CREATE TABLE content (
        place INTEGER PRIMARY KEY,
        octets BLOB NOT NULL
    );
    CREATE TABLE attempt (
        id INTEGER PRIMARY KEY,
        message INTEGER NOT NULL,
        at REAL NOT NULL,
        seconds REAL NOT NULL,
        connector TEXT NOT NULL,
        next_hop TEXT NOT NULL,
        address TEXT NOT NULL,
        stage TEXT NOT NULL,
        side TEXT NOT NULL,
        cause TEXT NOT NULL,
        code INTEGER,
        enhanced TEXT NOT NULL,
        text TEXT NOT NULL,
        facts TEXT NOT NULL,
        dialogue TEXT
    );
    CREATE INDEX attempt_message ON attempt (message);
    CREATE TABLE journal (
        number INTEGER PRIMARY KEY,
        at REAL NOT NULL,
        event TEXT NOT NULL,
        message INTEGER,
        facts TEXT NOT NULL
    );
    CREATE INDEX journal_message ON journal (message) WHERE message IS NOT NULL;
    CREATE TABLE connector (
        name TEXT PRIMARY KEY,
        last_good REAL,
        last_bad REAL,
        last_bad_text TEXT NOT NULL
    ) WITHOUT ROWID;
    """,
    """
    ALTER TABLE message ADD COLUMN asked TEXT NOT NULL DEFAULT '';
    ALTER TABLE recipient ADD COLUMN asked TEXT NOT NULL DEFAULT '';
    """,
    """
    CREATE TABLE growing (
        message INTEGER PRIMARY KEY  -- of which there is content, and not all of it yet
    );
    INSERT INTO growing SELECT DISTINCT place >> 13 FROM content EXCEPT SELECT id FROM message;
    """,
    """
    CREATE TABLE taken (  -- recipients taken, by the sender of the moment and the hour since 1970
        who TEXT NOT NULL,
        hour INTEGER NOT NULL,
        count INTEGER NOT NULL,
        PRIMARY KEY (who, hour)
    ) WITHOUT ROWID;
    CREATE TABLE wanted (  -- what an administrator wants done with a recipient, and is not done yet
        number INTEGER PRIMARY KEY,
        at REAL NOT NULL,
        who TEXT NOT NULL,
        action TEXT NOT NULL,
        message INTEGER NOT NULL,
        recipient INTEGER NOT NULL
    );
    CREATE INDEX recipient_failed ON recipient (changed) WHERE state = 'failed';
    CREATE INDEX journal_refused ON journal (at) WHERE event = 'refused';
    """,
    """
    ALTER TABLE message ADD COLUMN subject TEXT NOT NULL DEFAULT '';
    ALTER TABLE recipient ADD COLUMN next_hop TEXT NOT NULL DEFAULT '';  -- of the last attempt
    ALTER TABLE recipient ADD COLUMN via TEXT NOT NULL DEFAULT '';  -- the connector that an administrator chose
    ALTER TABLE wanted ADD COLUMN target TEXT NOT NULL DEFAULT '';
    CREATE INDEX journal_life ON journal (at) WHERE event IN ('started', 'stopped');
    """,
    """
    CREATE TABLE placed (  -- where the octets of a portion stand (`store.segments`)
        place INTEGER PRIMARY KEY,
        segment INTEGER NOT NULL,
        start INTEGER NOT NULL,
        size INTEGER NOT NULL
    );
    WITH moved AS MATERIALIZED (SELECT place, put(octets) AS at, length(octets) AS size FROM content)
    INSERT INTO placed SELECT place, at >> 40, at & 0xffffffffff, size FROM moved;
    DROP TABLE content;
    ALTER TABLE placed RENAME TO content;
    """,
    """
    DROP INDEX recipient_open;  -- the open ones are found by what there is content of (`selecting.sources`)
    CREATE INDEX recipient_delayed ON recipient (next_try) WHERE state = 'delayed';
    INSERT INTO content  -- what waits without any stays to be seen: it cannot be read, since no segment is number 0
    SELECT id << 13, 0, 0, size FROM message
    WHERE id IN (SELECT message FROM recipient WHERE state IN ('queued', 'delayed', 'parked'))
    AND id NOT IN (SELECT place >> 13 FROM content);
    """,
    """
    CREATE TABLE folded (  -- messages to one recipient, as they came: one row for all of it, until something happens
        id INTEGER PRIMARY KEY,
        arrived REAL NOT NULL,
        expires REAL NOT NULL,
        reverse_path TEXT NOT NULL,
        size INTEGER NOT NULL,
        eight_bit INTEGER NOT NULL,
        utf8 INTEGER NOT NULL,
        message_id TEXT NOT NULL,
        listener TEXT NOT NULL,
        client TEXT NOT NULL,
        hello TEXT NOT NULL,
        user TEXT NOT NULL,
        protocol TEXT NOT NULL,
        asked TEXT NOT NULL,
        subject TEXT NOT NULL,
        address TEXT NOT NULL,
        asked_for TEXT NOT NULL,  -- what is `asked` in the table of recipients
        segment INTEGER NOT NULL,
        start INTEGER NOT NULL
    );
    CREATE VIEW folded_message AS  -- as rows of the tables that they will be unfolded into
    SELECT id, arrived, expires, reverse_path, size, eight_bit, utf8, message_id, listener, client, hello, user,
    protocol, asked, subject FROM folded;
    CREATE VIEW folded_recipient AS
    SELECT id AS message, 1 AS number, address, 'queued' AS state, 0 AS attempts, arrived AS next_try, '' AS connector,
    '' AS reply, arrived AS changed, asked_for AS asked, '' AS next_hop, '' AS via FROM folded;
    """,
    """
    CREATE TABLE identity (value BLOB NOT NULL);  -- the data folder's own, which its segments of content repeat
    INSERT INTO identity VALUES (randomblob(16));
    WITH moved AS MATERIALIZED (SELECT place, anew(segment, start, size) AS at FROM content)
    UPDATE content SET segment = at >> 40, start = at & 0xffffffffff FROM moved WHERE moved.place = content.place;
    WITH moved AS MATERIALIZED (SELECT id, anew(segment, start, size) AS at FROM folded)
    UPDATE folded SET segment = at >> 40, start = at & 0xffffffffff FROM moved WHERE moved.id = folded.id;
    """,
    """
    ALTER TABLE recipient ADD COLUMN held INTEGER NOT NULL DEFAULT 0;  -- it waits for its connector, which is down
    CREATE INDEX recipient_held ON recipient (connector, message, number) WHERE held;
    DROP VIEW folded_recipient;
    CREATE VIEW folded_recipient AS
    SELECT id AS message, 1 AS number, address, 'queued' AS state, 0 AS attempts, arrived AS next_try, '' AS connector,
    '' AS reply, arrived AS changed, asked_for AS asked, '' AS next_hop, '' AS via, 0 AS held FROM folded;
    """,
    """
    CREATE TABLE lane (  -- those that do not move, and why (`store.model.LaneStop`)
        connector TEXT NOT NULL,
        domain TEXT NOT NULL,
        since REAL NOT NULL,
        until REAL NOT NULL,
        at REAL NOT NULL,
        stage TEXT NOT NULL,
        side TEXT NOT NULL,
        cause TEXT NOT NULL,
        code INTEGER,
        enhanced TEXT NOT NULL,
        text TEXT NOT NULL,
        next_hop TEXT NOT NULL,
        address TEXT NOT NULL,
        PRIMARY KEY (connector, domain)
    ) WITHOUT ROWID;
    UPDATE recipient SET next_try = changed WHERE held;  -- it waits in its lane now, and nothing is written of it
    DROP INDEX recipient_held;
    DROP VIEW folded_recipient;
    DROP VIEW folded_message;
    ALTER TABLE recipient DROP COLUMN held;
    ALTER TABLE message ADD COLUMN priority INTEGER NOT NULL DEFAULT 0;
    ALTER TABLE folded ADD COLUMN priority INTEGER NOT NULL DEFAULT 0;
    ALTER TABLE folded ADD COLUMN connector TEXT NOT NULL DEFAULT '';
    CREATE VIEW folded_message AS
    SELECT id, arrived, expires, reverse_path, size, eight_bit, utf8, message_id, listener, client, hello, user,
    protocol, asked, subject, priority FROM folded;
    CREATE VIEW folded_recipient AS
    SELECT id AS message, 1 AS number, address, 'queued' AS state, 0 AS attempts, arrived AS next_try, connector,
    '' AS reply, arrived AS changed, asked_for AS asked, '' AS next_hop, '' AS via FROM folded;
    """,
    """
    ALTER TABLE message ADD COLUMN form INTEGER NOT NULL DEFAULT 0;  -- what is to be mended on its way out
    ALTER TABLE folded ADD COLUMN form INTEGER NOT NULL DEFAULT 0;
    DROP VIEW folded_message;
    CREATE VIEW folded_message AS
    SELECT id, arrived, expires, reverse_path, size, eight_bit, utf8, message_id, listener, client, hello, user,
    protocol, asked, subject, priority, form FROM folded;
    """,
    """
    ALTER TABLE message ADD COLUMN tls TEXT NOT NULL DEFAULT '';  -- of the session that it came by
    ALTER TABLE folded ADD COLUMN tls TEXT NOT NULL DEFAULT '';
    DROP VIEW folded_message;
    CREATE VIEW folded_message AS
    SELECT id, arrived, expires, reverse_path, size, eight_bit, utf8, message_id, listener, client, hello, user,
    protocol, asked, subject, priority, form, tls FROM folded;
    CREATE INDEX journal_routes ON journal (at) WHERE event = 'routes';
    """,
    """
    CREATE TABLE tally (  -- outcomes of recipients, by the minute since 1970
        minute INTEGER NOT NULL,
        connector TEXT NOT NULL,
        outcome TEXT NOT NULL,
        count INTEGER NOT NULL,
        PRIMARY KEY (minute, connector, outcome)
    ) WITHOUT ROWID;
    """,
    """
    DROP VIEW folded_message;
    DROP VIEW folded_recipient;
    ALTER TABLE folded RENAME TO compact;
    ALTER TABLE message RENAME COLUMN asked TO esmtp_parameters;
    ALTER TABLE recipient RENAME COLUMN asked TO esmtp_parameters;
    ALTER TABLE compact RENAME COLUMN asked TO esmtp_parameters;
    ALTER TABLE compact RENAME COLUMN asked_for TO rcpt_parameters;
    CREATE VIEW compact_message AS  -- as rows of the tables that they will be expanded into
    SELECT id, arrived, expires, reverse_path, size, eight_bit, utf8, message_id, listener, client, hello, user,
    protocol, esmtp_parameters, subject, priority, form, tls FROM compact;
    CREATE VIEW compact_recipient AS
    SELECT id AS message, 1 AS number, address, 'queued' AS state, 0 AS attempts, arrived AS next_try, connector,
    '' AS reply, arrived AS changed, rcpt_parameters AS esmtp_parameters, '' AS next_hop, '' AS via FROM compact;
    """,
    """
    CREATE TABLE hourly (  -- recipients and octets, by the hour since 1970, for reports
        hour INTEGER NOT NULL,
        outcome TEXT NOT NULL,
        connector TEXT NOT NULL,
        next_hop TEXT NOT NULL,
        who TEXT NOT NULL,
        domain TEXT NOT NULL,
        reason TEXT NOT NULL,
        delay INTEGER NOT NULL,  -- the step of `HourlyCount.delay`; -1 where nothing was relayed
        recipients INTEGER NOT NULL,
        octets INTEGER NOT NULL,
        PRIMARY KEY (hour, outcome, connector, next_hop, who, domain, reason, delay)
    ) WITHOUT ROWID;
    """,
    """
    CREATE INDEX journal_surge ON journal (at) WHERE event = 'surge';  -- what monitoring asks for, again and again
    CREATE INDEX journal_reported ON journal (at) WHERE event = 'reported';
    CREATE INDEX journal_certificate ON journal (at) WHERE event = 'certificate';
    CREATE INDEX journal_down ON journal (at) WHERE event = 'down';
    CREATE INDEX journal_back ON journal (at) WHERE event = 'back';
    """,
)

SCHEMA = len(MIGRATIONS)


def connect_writer(folder: Path) -> sqlite3.Connection:
    """A connection whose commits are on stable storage when they return (WAL, synchronous=FULL).

    Raises StoreError when the folder or the database cannot be used, SchemaTooNew when a later release wrote it.
    """
    if segment_sizes(folder) and not (folder / DATABASE).exists():
        raise StoreError(
            str(folder),
            f"{DATABASE} is missing, and the folder content beside it is not empty",
            "`kite queue rescue` rebuilds it from the content; or move content away, to begin with an empty queue",
        )
    try:
        folder.mkdir(mode=0o700, parents=True, exist_ok=True)
        _keep_private(folder / DATABASE)
        connection = sqlite3.connect(
            folder / DATABASE, isolation_level=None, check_same_thread=False, cached_statements=512
        )
        connection.execute("PRAGMA page_size = 4096")  # a commit is rows here and there
        connection.execute("PRAGMA journal_mode = WAL")
        connection.execute("PRAGMA synchronous = FULL")
        connection.execute("PRAGMA wal_autocheckpoint = 4000")  # pages: fewer, longer merges of the log
        connection.execute("PRAGMA journal_size_limit = 67108864")
        migrate(connection, folder)
        _demand_same_identity(connection, folder)
    except PermissionError as error:
        raise StoreError(
            str(folder), f"not writable ({error.strerror})", "run as its owner, or name another"
        ) from error
    except OSError as error:
        raise StoreError(str(folder), f"cannot be used as a folder ({error.strerror})") from error
    except sqlite3.Error as error:
        raise StoreError(str(folder), f"the database cannot be opened ({error})", "see who may write there") from error
    return connection


def identity_of(connection: sqlite3.Connection) -> bytes:
    """The identity of the data folder."""
    return bytes(connection.execute("SELECT value FROM identity").fetchone()[0])


def _demand_same_identity(connection: sqlite3.Connection, folder: Path) -> None:
    """Content and database must be of one folder, also when somebody has put them together."""
    identity = identity_of(connection)
    for segment, _ in segment_sizes(folder):
        if identity_in(folder, segment) not in (b"", identity):
            raise StoreError(
                str(folder),
                f"content/{segment:08} and {DATABASE} are of different queues",
                "put back the one that belongs there; or `kite queue rescue` rebuilds the queue from the content",
            )


def _keep_private(database: Path) -> None:
    """Mail is nobody else's, also where the folder lets everybody in; the files beside it get the same mode.

    The file is not opened where it is there: closing it would drop the locks of all this process's connections.
    """
    try:
        result = database.stat()
    except FileNotFoundError:
        os.close(os.open(database, os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, 0o600))
        return
    if not os.access(database, os.R_OK | os.W_OK):
        raise PermissionError(errno.EACCES, os.strerror(errno.EACCES))
    mode = stat.S_IMODE(result.st_mode)
    if mode & stat.S_IRWXO and result.st_uid == os.geteuid():
        database.chmod(mode & ~stat.S_IRWXO)


def connect_reader(folder: Path) -> sqlite3.Connection:
    """A connection that only reads; it works beside a running server and without one. Raises StoreError."""
    path = folder / DATABASE
    if not path.exists():
        raise StoreError(str(folder), "no queue here yet", "`kite serve` makes it")
    try:
        connection = sqlite3.connect(f"{path.absolute().as_uri()}?mode=ro", uri=True, check_same_thread=False)
        connection.create_function("reason", 1, _reason, deterministic=True)
        result = _schema_of(connection)
    except sqlite3.Error as error:
        raise StoreError(str(folder), f"the queue cannot be read ({error})", "run as the server's user") from error
    if result > SCHEMA:
        raise SchemaTooNew(str(folder), result, SCHEMA)
    if result == 0:  # the server that makes it is just starting
        raise StoreError(str(folder), "no queue here yet", "`kite serve` makes it")
    if result < SCHEMA:  # a server of that release may be at work on it
        remedy = "restart the server with this release, which brings it up to date"
        raise StoreError(str(folder), f"the queue is of an older release (schema {result}, not {SCHEMA})", remedy)
    return connection


_SINCE_WHEN = re.compile(r" \(\S+ is down since .{31}\)$")


def _reason(reply: str) -> str:
    """A reply without what differs between those that were tried and those that only wait with them."""
    return _SINCE_WHEN.sub("", reply, count=1)


def _schema_of(connection: sqlite3.Connection) -> int:
    return int(connection.execute("PRAGMA user_version").fetchone()[0])


def migrate(connection: sqlite3.Connection, folder: Path) -> None:
    """Bring the schema up to date: all steps and their record are one transaction, so nobody sees it half made.

    Raises SchemaTooNew, OSError.
    """
    result = _schema_of(connection)
    if result > SCHEMA:
        raise SchemaTooNew(str(folder), result, SCHEMA)
    segments = Segments(folder)

    def put(octets: bytes) -> int:
        number, start = segments.append(octets + summed(octets))
        return number << 40 | start

    def anew(segment: int, start: int, size: int) -> int:
        """Where a portion stands with a sum after it: what was written without one is written again."""
        octets = read_without_sum(folder, segment, start, size)
        return segment << 40 | start if octets is None else put(octets)

    connection.create_function("put", 1, put)
    connection.create_function("anew", 3, anew)
    if result < SCHEMA:
        steps = "".join(f"{script};" for script in MIGRATIONS[result:])
        connection.executescript(f"BEGIN IMMEDIATE; {steps} PRAGMA user_version = {SCHEMA}; COMMIT;")
    segments.leave()
