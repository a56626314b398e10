"""The tables in the shared database, as an ordered list of migrations.

All that are due run in one transaction under an advisory lock. A migration says which release's schema can still work
beside it: servers are upgraded one after the other.
"""

from __future__ import annotations

import psycopg

from copper_kite.errors import SchemaTooNew, StoreError
from copper_kite.store.place import StorePlace
from copper_kite.store.postgres.link import Database

__all__ = ["MIGRATIONS", "SCHEMA", "demand_database", "demand_schema", "migrate"]

LOCK_SCHEMA = 7401  # advisory locks: this one, and in the second part the schema's own number
OLDEST_DATABASE = 140000  # PostgreSQL 14

# Text is compared octet by octet, whatever the database's own order is: addresses are no words of a language.
_TEXT = 'text COLLATE "C" NOT NULL'

MIGRATIONS: tuple[tuple[int, str], ...] = (
    (
        1,
        f"""
        CREATE TABLE server (
            slot smallint PRIMARY KEY,  -- in the low bits of each id that it makes (`ids.SLOT_BITS`)
            name {_TEXT} UNIQUE,
            folder {_TEXT},  -- the identity of its data folder: another machine of that name has another one
            epoch bigint NOT NULL,  -- rises when it starts, and when others take over what it had
            lease_until timestamptz NOT NULL,  -- by the clock of the database, as all leases
            lease_seconds double precision NOT NULL,
            batch bigint NOT NULL,  -- the number of the last batch that it wrote
            since double precision NOT NULL,
            waiting bigint NOT NULL DEFAULT 0,  -- recipients, as it last said
            drained boolean NOT NULL DEFAULT true  -- of one that is dead: nothing that waits is left in its name
        );
        CREATE TABLE message (
            id bigint PRIMARY KEY,
            arrived double precision NOT NULL CHECK (arrived < 'infinity'),
            expires double precision NOT NULL,
            reverse_path {_TEXT},
            size bigint NOT NULL,
            eight_bit boolean NOT NULL,
            utf8 boolean NOT NULL,
            message_id {_TEXT},
            listener {_TEXT},
            client {_TEXT},
            hello {_TEXT},
            "user" {_TEXT},
            protocol {_TEXT},
            esmtp_parameters {_TEXT},
            subject {_TEXT},
            priority smallint NOT NULL,
            form integer NOT NULL,
            tls {_TEXT},
            owner smallint NOT NULL  -- the server that sends it
        );
        CREATE TABLE recipient (
            message bigint NOT NULL,
            number integer NOT NULL,
            address {_TEXT},
            state {_TEXT},
            attempts integer NOT NULL,
            next_try double precision,
            connector {_TEXT},
            reply {_TEXT},
            changed double precision NOT NULL,
            esmtp_parameters {_TEXT},
            next_hop {_TEXT},
            via {_TEXT},
            PRIMARY KEY (message, number)
        );
        CREATE INDEX recipient_delayed ON recipient (next_try, message, number) WHERE state = 'delayed';
        CREATE INDEX recipient_failed ON recipient (changed) WHERE state = 'failed';
        CREATE TABLE content (  -- there is some as long as a recipient is open: so this is the list of what waits
            message bigint NOT NULL,
            portion integer NOT NULL,
            sum bigint NOT NULL,  -- CRC-32 of the octets
            octets bytea NOT NULL,
            PRIMARY KEY (message, portion)
        );
        ALTER TABLE content ALTER COLUMN octets SET STORAGE EXTERNAL;  -- compressing takes longer than writing
        CREATE TABLE growing (message bigint PRIMARY KEY);  -- of which there is content, and not all of it yet
        CREATE TABLE attempt (
            id bigint PRIMARY KEY,
            message bigint NOT NULL,
            at double precision NOT NULL,
            seconds double precision NOT NULL,
            connector {_TEXT},
            next_hop {_TEXT},
            address {_TEXT},
            stage {_TEXT},
            side {_TEXT},
            cause {_TEXT},
            code integer,
            enhanced {_TEXT},
            text {_TEXT},
            facts {_TEXT},
            dialogue text COLLATE "C"
        );
        CREATE INDEX attempt_message ON attempt (message);
        CREATE TABLE journal (
            number bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
            at double precision NOT NULL,
            event {_TEXT},
            message bigint,
            facts {_TEXT},
            server smallint NOT NULL
        );
        CREATE INDEX journal_message ON journal (message) WHERE message IS NOT NULL;
        CREATE INDEX journal_event ON journal (event, at);
        CREATE TABLE connector (
            name {_TEXT},
            server smallint NOT NULL,
            last_good double precision,
            last_bad double precision,
            last_bad_text {_TEXT},
            PRIMARY KEY (name, server)
        );
        CREATE TABLE lane (  -- of each server, those that do not move: their networks differ
            connector {_TEXT},
            domain {_TEXT},
            since double precision NOT NULL,
            until double precision NOT NULL,
            at double precision NOT NULL,
            stage {_TEXT},
            side {_TEXT},
            cause {_TEXT},
            code integer,
            enhanced {_TEXT},
            text {_TEXT},
            next_hop {_TEXT},
            address {_TEXT},
            server smallint NOT NULL,
            PRIMARY KEY (server, connector, domain)
        );
        CREATE TABLE taken (  -- rows of each server, so that servers do not wait for each other
            who {_TEXT},
            hour bigint NOT NULL,
            server smallint NOT NULL,
            count bigint NOT NULL,
            PRIMARY KEY (who, hour, server)
        );
        CREATE TABLE wanted (
            number bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
            at double precision NOT NULL,
            who {_TEXT},
            action {_TEXT},
            message bigint NOT NULL,
            recipient integer NOT NULL,
            target {_TEXT},
            server smallint  -- who is to do it; null: the owner of the message
        );
        CREATE TABLE given (  -- messages that one server handed to another, which has not seen them yet
            server smallint NOT NULL,
            message bigint NOT NULL
        );
        CREATE TABLE reserved (  -- of an allowance in a period, what servers have reserved
            connector {_TEXT},
            allowance {_TEXT},
            since double precision NOT NULL,
            used bigint NOT NULL,
            PRIMARY KEY (connector, allowance, since)
        );
        CREATE TABLE tally (
            minute bigint NOT NULL,
            connector {_TEXT},
            outcome {_TEXT},
            server smallint NOT NULL,
            count bigint NOT NULL,
            PRIMARY KEY (minute, connector, outcome, server)
        );
        CREATE TABLE hourly (
            hour bigint NOT NULL,
            outcome {_TEXT},
            connector {_TEXT},
            next_hop {_TEXT},
            who {_TEXT},
            domain {_TEXT},
            reason {_TEXT},
            delay integer NOT NULL,
            server smallint NOT NULL,
            recipients bigint NOT NULL,
            octets bigint NOT NULL,
            PRIMARY KEY (hour, outcome, connector, next_hop, who, domain, reason, delay, server)
        );
        """,
    ),
)
SCHEMA = len(MIGRATIONS)


def migrate(connection: Database, place: StorePlace) -> None:
    """Bring the schema up to date, or make it. Raises SchemaTooNew, StoreError, psycopg.Error."""
    demand_database(connection, place)
    with connection.transaction():
        connection.execute("SELECT pg_advisory_xact_lock(%s, hashtext(current_schema()))", (LOCK_SCHEMA,))
        connection.execute("CREATE TABLE IF NOT EXISTS schema (version integer NOT NULL, works_with integer NOT NULL)")
        version = _version(connection, place)
        if version >= SCHEMA:
            return
        for works_with, script in MIGRATIONS[version:]:
            connection.execute(script)
            connection.execute("DELETE FROM schema")
            connection.execute("INSERT INTO schema VALUES (%s, %s)", (SCHEMA, works_with))


def demand_schema(connection: Database, place: StorePlace, least: int = SCHEMA) -> None:
    """Raises StoreError where there is no queue, or one that this release cannot read; an older one than the `least`
    must be brought up to date first."""
    try:
        version = _version(connection, place)
    except psycopg.errors.UndefinedTable:
        version = 0
    if version == 0 and least:
        raise StoreError(str(place), "no queue here yet", "`kite serve` makes it")
    if version < least:
        remedy = "restart a server with this release, which brings it up to date"
        raise StoreError(str(place), f"the queue is of an older release (schema {version}, not {SCHEMA})", remedy)


def _version(connection: Database, place: StorePlace) -> int:
    row = connection.execute("SELECT version, works_with FROM schema").fetchone()
    version, works_with = row if row is not None else (0, 0)
    if works_with > SCHEMA:
        raise SchemaTooNew(str(place), version, SCHEMA)
    return int(version)


def demand_database(connection: Database, place: StorePlace) -> None:
    """The database must be one that keeps what it says it keeps. Raises StoreError, psycopg.Error."""
    release = connection.info.server_version
    if release < OLDEST_DATABASE:
        raise StoreError(str(place), f"PostgreSQL {release // 10000} is too old", "it takes 14 or later")
    row = connection.execute(
        "SELECT current_setting('server_encoding'), current_setting('fsync'), current_setting('full_page_writes'),"
        " current_schema()"
    ).fetchone()
    assert row is not None
    encoding, synced, whole_pages, schema = row
    if encoding != "UTF8":
        raise StoreError(str(place), f"the database's encoding is {encoding}", "make one with ENCODING 'UTF8'")
    if (synced, whole_pages) != ("on", "on"):
        problem = f"a commit is not durable there: fsync is {synced}, full_page_writes is {whole_pages}"
        raise StoreError(str(place), problem, "switch both on in postgresql.conf")
    if schema is None:
        remedy = "GRANT CREATE ON SCHEMA public TO its user, or CREATE SCHEMA AUTHORIZATION it"
        raise StoreError(str(place), "the user may use no schema of the database", remedy)
