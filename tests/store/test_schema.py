"""Queues of other releases: brought up to date by the server, left alone by commands."""

from __future__ import annotations

import sqlite3
from pathlib import Path

import pytest

from copper_kite.errors import ContentUnreadable, SchemaTooNew, StoreError
from copper_kite.store import open_store
from copper_kite.store.sqlite.schema import MIGRATIONS, SCHEMA, connect_writer


def older(folder: Path, steps: int) -> sqlite3.Connection:
    """A queue as the release with so many steps left it."""
    connection = sqlite3.connect(folder / "queue.sqlite")
    connection.create_function("put", 1, lambda octets: 1 << 40)
    connection.create_function("anew", 3, lambda segment, start, size: segment << 40 | start)
    for number, script in enumerate(MIGRATIONS[:steps], 1):
        connection.executescript(f"{script}; PRAGMA user_version = {number}")
    return connection


def test_a_database_of_an_older_release_is_the_servers_to_bring_up_to_date(folder: Path) -> None:
    """A server of that release may be at work: no command changes the tables under it, nor trips over them."""
    folder.mkdir(exist_ok=True)
    for steps in range(1, SCHEMA):
        (folder / "queue.sqlite").unlink(missing_ok=True)
        connection = older(folder, steps)
        columns = connection.execute("SELECT count(*) FROM pragma_table_info('message')").fetchone()[0]
        connection.execute(f"INSERT INTO message VALUES ({','.join('?' * columns)})", (7, *[0] * (columns - 1)))
        portions = [(7 << 13, b"a"), (7 << 13 | 1, b"bc")] if steps < 6 else []  # later, it stands in files
        for portion in portions:
            connection.execute("INSERT INTO content VALUES (?, ?)", portion)
        connection.commit()
        connection.close()
        with pytest.raises(StoreError, match="of an older release"):
            open_store(folder).reader()
        connect_writer(folder).close()
        with open_store(folder).reader() as reader:
            assert reader.recipients(7)[0].subject in ("", "0")
            assert list(reader.content(7)) == [octets for _, octets in portions]


def test_what_waits_without_content_since_an_older_release_can_still_be_seen(folder: Path) -> None:
    """It cannot leave; whoever looks after the queue decides about it."""
    folder.mkdir(exist_ok=True)
    connection = older(folder, 6)
    columns = connection.execute("SELECT count(*) FROM pragma_table_info('recipient')").fetchone()[0]
    of_message = connection.execute("SELECT count(*) FROM pragma_table_info('message')").fetchone()[0]
    for id, state in ((7, "delayed"), (8, "delayed"), (9, "relayed")):
        connection.execute(f"INSERT INTO message VALUES ({','.join('?' * of_message)})", (id, *[3] * (of_message - 1)))
        values = (id, 1, "b@y", state, 1, 9.0, *[""] * (columns - 6))
        connection.execute(f"INSERT INTO recipient VALUES ({','.join('?' * columns)})", values)
    connection.execute("INSERT INTO content VALUES (?, 1, 0, 3)", (8 << 13,))
    connection.commit()
    connection.close()
    connect_writer(folder).close()
    with open_store(folder).reader() as reader:
        assert [row.message.id for row in reader.queue()] == [7, 8]
        assert list(reader.content(9)) == []
        with pytest.raises(ContentUnreadable):
            list(reader.content(7))


def test_content_that_was_written_without_sums_gets_them(folder: Path) -> None:
    """In one portion, in several, and where not all of it is there."""
    (folder / "content").mkdir(parents=True)
    (folder / "content" / "00000001").write_bytes(b"abcdefghijklmnop")
    connection = older(folder, 8)
    for id in (7, 8):
        connection.execute(
            "INSERT INTO message VALUES (?, 1.0, 9.0, 'a@x', 4, 0, 0, '', '', '', '', '', '', '', '')", (id,)
        )
    connection.execute(
        "INSERT INTO folded VALUES (9, 1.0, 9.0, 'a@x', 4, 0, 0, '', '', '', '', '', '', '', '', 'b@y', '', 1, 9)"
    )
    rows = ((7 << 13, 1, 0, 2), (7 << 13 | 1, 1, 3, 2), (8 << 13, 1, 14, 4))
    connection.executemany("INSERT INTO content VALUES (?, ?, ?, ?)", rows)
    connection.commit()
    connection.close()
    connect_writer(folder).close()
    (folder / "content" / "00000001").write_bytes(b"0123456789")
    with open_store(folder).reader() as reader:
        assert list(reader.content(7)) == [b"ab", b"de"] and list(reader.content(9)) == [b"jklm"]
        with pytest.raises(ContentUnreadable):
            list(reader.content(8))


def test_a_database_of_a_later_release_is_refused(folder: Path) -> None:
    connect_writer(folder).close()
    connection = sqlite3.connect(folder / "queue.sqlite")
    connection.execute(f"PRAGMA user_version = {SCHEMA + 1}")
    connection.close()
    store = open_store(folder)
    for use in (store.upgrade, store.reader, store.history):
        with pytest.raises(SchemaTooNew) as error:
            use()
        assert error.value.found == SCHEMA + 1


def test_what_was_held_for_a_connector_waits_in_its_lane(folder: Path) -> None:
    """It keeps its state and its reply, and is due; what waits for a time of its own keeps that, too."""
    folder.mkdir(exist_ok=True)
    connection = older(folder, 10)
    message = "INSERT INTO message VALUES (?, 1.0, 9e9, 'a@x', 3, 0, 0, '', 'l', 'unix', '', '', '', '', '')"
    recipient = "INSERT INTO recipient VALUES (?, 1, 'b@y', ?, ?, ?, 'beacon', 'down', 5.0, '', '', '', ?)"
    for id, state, attempts, next_try, held in (
        (7, "delayed", 0, 9e9, 1), (8, "delayed", 2, 60.0, 0), (9, "parked", 1, None, 0),
    ):  # fmt: skip
        connection.execute(message, (id,))
        connection.execute(recipient, (id, state, attempts, next_try, held))
        connection.execute("INSERT INTO content VALUES (?, 1, 0, 3)", (id << 13,))
    folded = (
        "INSERT INTO folded VALUES (10, 2.0, 9e9, 'a@x', 3, 0, 0, '', 'l', 'unix', '', '', '', '', '', 'c@y', '', 1, 9)"
    )
    connection.execute(folded)
    connection.commit()
    connection.close()
    connect_writer(folder).close()
    with open_store(folder).reader() as reader:
        rows = {row.message.id: row.recipient for row in reader.queue()}
        assert {id: (item.state.value, item.reply, item.next_try) for id, item in rows.items()} == {
            7: ("delayed", "down", 5.0), 8: ("delayed", "down", 60.0), 9: ("parked", "down", None), 10: ("queued", "", 2.0),
        }  # fmt: skip
        assert [row.message for row in reader.delayed((0.0, 0, 0), 50.0, 9)] == [7]
        assert [row.message for row in reader.queued(0, 99, 9)] == [10] and reader.lanes() == []
