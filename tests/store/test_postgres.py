"""What holds of a queue that several servers share, and of no other: names, leases, fences, doubtful commits."""

from __future__ import annotations

import os
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import closing
from pathlib import Path
from typing import Any

import psycopg
import pytest

from copper_kite.demo.database import DatabaseServer
from copper_kite.errors import KiteError, StoreAway, StoreError, StoreFailed
from copper_kite.net.authority import CertificateFiles
from copper_kite.smtp import Secret
from copper_kite.store import AddContent, HandOver, SetState, StorePlace, open_store, parse_store_url
from copper_kite.store.postgres import process
from copper_kite.store.postgres.commit import Fenced, Identity
from copper_kite.store.postgres.engine import PostgresStore
from copper_kite.store.postgres.kinds import Tables
from copper_kite.store.postgres.lease import LeaseCell
from copper_kite.store.postgres.link import connect
from copper_kite.store.postgres.peers import Listening
from copper_kite.store.postgres.process import Keeper
from copper_kite.store.postgres.schema import SCHEMA
from copper_kite.store.postgres.servers import enter
from copper_kite.store.shared.batch import Batch
from copper_kite.store.shared.encoding import encode
from copper_kite.store.shared.shared_buffer import SharedBuffer
from copper_kite.words import State
from tests.database_server import database_server, remove_user
from tests.store.turns import Turns, submission, write_together
from tests.support import free_port

NOW = 1_780_000_000.0


def place(folder: Path, url: str, name: str, **more: float) -> StorePlace:
    return StorePlace(folder / name, url, server=f"{name}.example", **more)  # type: ignore[arg-type]


def let_die(database: DatabaseServer, url: str, name: str) -> None:
    """The lease of a server is over."""
    user = parse_store_url(url).user
    database.sql(f"UPDATE {user}.server SET lease_until = now() - interval '1s' WHERE name = '{name}.example'")


class Serving:
    """A store whose writer was started, as a server has it."""

    def __init__(self, where: StorePlace) -> None:
        self.store, self.turns = open_store(where), Turns()
        self.writer = self.turns.start(self.store)
        self.reads = self.store.server_reads()

    def write(self, *transactions: object) -> list[KiteError | None]:
        return write_together(self.writer, self.turns, *transactions)  # type: ignore[arg-type]

    def close(self) -> None:
        self.reads.close()
        self.writer.close()


@pytest.fixture
def serve(folder: Path, store_url: str) -> Iterator[Callable[[str], Serving]]:
    started: list[Serving] = []

    def one(name: str) -> Serving:
        started.append(Serving(place(folder, store_url, name)))
        return started[-1]

    yield one
    for serving in started:
        serving.close()


# --- who is who ------------------------------------------------------------------------------------------------------


def test_each_name_is_one_living_server(folder: Path, store_url: str, database: DatabaseServer) -> None:
    """It comes back to what was its own; another machine of that name has to wait until it is dead, or has left."""
    store = open_store(place(folder, store_url, "quay1"))
    store.upgrade()
    with connect(place(folder, store_url, "quay1")) as connection:
        first = enter(connection, place(folder, store_url, "quay1"), NOW)
        other = enter(connection, place(folder, store_url, "quay2"), NOW)
        assert (first, other) == (Identity(1, 1), Identity(2, 1))
        again = enter(connection, place(folder, store_url, "quay1"), NOW)
        assert again == Identity(1, 2), "the same folder: it was restarted"
        impostor = place(folder / "elsewhere", store_url, "quay1")
        with pytest.raises(StoreError, match=r"a server named quay1\.example is at work on it"):
            enter(connection, impostor, NOW)
        let_die(database, store_url, "quay1")
        assert enter(connection, impostor, NOW) == Identity(1, 3)
    with store.reader() as reader:
        assert [(server.slot, server.name, server.alive) for server in reader.servers()] == [
            (1, "quay1.example", True), (2, "quay2.example", True),
        ]  # fmt: skip


def test_each_sees_what_is_its_own_and_commands_see_all(serve: Callable[[str], Serving]) -> None:
    quay1, quay2 = serve("quay1"), serve("quay2")
    assert (quay1.reads.slot, quay2.reads.slot) == (1, 2)
    assert quay1.write(submission(65), submission(129)) == [None] * 2
    assert quay2.write(submission(66)) == [None]
    assert [row.message for row in quay1.reads.queued(0, 1000, 9)] == [65, 129]
    assert [row.message for row in quay2.reads.waiting([65, 66, 129], NOW)] == [66]
    with quay2.store.reader() as reader:
        assert [row.message.id for row in reader.queue()] == [65, 66, 129]
        assert reader.record(66).servers == {1: "quay1.example", 2: "quay2.example"}


def test_a_url_says_what_is_wrong_with_it() -> None:
    address = parse_store_url("postgresql://kite@db1.example,db2.example:5433/kite")
    assert (address.hosts, address.ports, address.database) == (("db1.example", "db2.example"), (5432, 5433), "kite")
    assert parse_store_url("postgres://kite@/kite?host=/run/postgresql").local
    for url, why in (
        ("postgresql://kite:secret@db/kite", "a password does not belong here"),
        ("mysql://kite@db/kite", "neither empty nor"),
        ("postgresql://db/kite", "user is missing"),
        ("postgresql://kite@db/kite?sslmode=disable", "sslmode is unknown"),
        ("postgresql://kite@db:70000/kite", "is no host"),
    ):
        with pytest.raises(ValueError, match=why):
            parse_store_url(url)


# --- leases ----------------------------------------------------------------------------------------------------------


def test_the_mail_of_a_dead_server_is_taken_over_and_it_writes_no_more(
    serve: Callable[[str], Serving], database: DatabaseServer, store_url: str
) -> None:
    dead, heir = serve("quay1"), serve("quay2")
    assert dead.write(*(submission(1 + 64 * n) for n in range(5)), [AddContent(641, 0, b"cut off")]) == [None] * 6
    assert heir.reads.adopt(9) == [], "its lease holds"
    let_die(database, store_url, "quay1")
    taken = heir.reads.adopt(3)
    assert len(taken) == 3
    (error,) = dead.write([SetState(taken[0], 1, State.RELAYED, 1, None, "beacon", "250 ok", NOW)])
    assert isinstance(error, StoreFailed) and not dead.turns.lost
    dead.turns.turn()  # the process that writes has ended
    assert dead.turns.lost == 1
    taken += heir.reads.adopt(3)
    assert sorted(taken) == [1, 65, 129, 193, 257] and heir.reads.adopt(3) == []
    assert [row.message for row in heir.reads.waiting(taken, NOW)] == sorted(taken)
    with heir.store.reader() as reader:
        assert reader.totals() == {State.QUEUED: 5}, "what the dead one wanted to record was not"
        assert reader.stray_content() == [], "of what it had not taken in whole, nothing is left"
        assert [server.alive for server in reader.servers()] == [False, True]


def test_what_one_hands_to_another_is_seen_once(serve: Callable[[str], Serving]) -> None:
    busy, idle = serve("quay1"), serve("quay2")
    assert busy.write(submission(1), submission(65), submission(129)) == [None] * 3
    assert busy.reads.exchange(3) == [(2, 0)] and idle.reads.exchange(0) == [(1, 3)]
    assert busy.write([HandOver(2, [65, 129])]) == [None]
    assert sorted(idle.reads.adopt(9)) == [65, 129] and idle.reads.adopt(9) == []
    assert [row.message for row in busy.reads.queued(0, 1000, 9)] == [1]
    assert [row.message for row in idle.reads.queued(0, 1000, 9)] == [65, 129]


def test_a_lease_is_sure_for_a_part_of_its_time() -> None:
    with closing(LeaseCell()) as cell:
        assert not cell.holds()
        cell.renew(time.monotonic(), 30.0)
        assert cell.holds()
        cell.renew(time.monotonic() - 25.0, 30.0)
        assert not cell.holds(), "others may have what is sent now before it arrives"
        cell.beat()
        assert 0.0 <= cell.quiet_for() < 30.0


def test_a_server_whose_loop_stands_still_does_not_renew(
    folder: Path, store_url: str, database: DatabaseServer
) -> None:
    where = place(folder, store_url, "quay1")
    keeper, cell = _keeper(where)
    keeper.renew()
    assert not cell.holds(), "nobody has said that the loop turns"
    cell.beat()
    keeper.renew()
    assert cell.holds()
    user = parse_store_url(store_url).user
    database.sql(f"UPDATE {user}.server SET epoch = epoch + 1")
    with pytest.raises(Fenced):
        keeper.renew()


def _keeper(where: StorePlace) -> tuple[Keeper, LeaseCell]:
    open_store(where).upgrade()
    with connect(where) as connection:
        me = enter(connection, where, NOW)
    cell, buffer = LeaseCell(), SharedBuffer()
    return Keeper(where, me, cell, buffer.memory, lambda: False), cell


# --- the database goes away -------------------------------------------------------------------------------------------


def _batch(*transactions: object) -> Batch:
    return Batch(others=[encode(transaction, lambda octets: 0) for transaction in transactions])  # type: ignore[arg-type]


@pytest.mark.parametrize("carried_out", [True, False])
def test_a_commit_whose_answer_was_lost_is_looked_up(
    folder: Path, store_url: str, monkeypatch: pytest.MonkeyPatch, carried_out: bool
) -> None:
    """The connection breaks in the middle of a COMMIT: nothing is repeated, and nothing forgotten."""
    keeper, _ = _keeper(place(folder, store_url, "quay1"))
    commit, left = process.commit, [1]

    def breaks(tables: Tables, *given: Any) -> None:
        if left and not carried_out:
            left.clear()
            tables.connection.close()
        commit(tables, *given)
        if left:
            left.clear()
            tables.connection.close()
            raise psycopg.OperationalError("the answer is lost")

    monkeypatch.setattr(process, "commit", breaks)
    twice = [*submission(2), *submission(2)]
    faults = keeper.write(_batch(submission(1), twice, submission(3)))
    assert [fault is None for fault in faults] == [True, False, True], "also of one that could not be written"
    assert keeper.write(_batch(submission(4))) == [None]
    with open_store(place(folder, store_url, "quay1")).reader() as reader:
        assert [row.message.id for row in reader.queue()] == [1, 3, 4]


def test_connections_that_are_cut_are_made_again(
    serve: Callable[[str], Serving], database: DatabaseServer, store_url: str
) -> None:
    serving = serve("quay1")
    user = parse_store_url(store_url).user
    assert serving.write(submission(1)) == [None]
    database.sql(f"SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE usename = '{user}'")
    assert serving.write(submission(65)) == [None], "the writer waits for the database"
    with pytest.raises(StoreAway):
        serving.reads.last_id()
    while True:  # it is connected again beside the loop, which never waits for that
        try:
            assert serving.reads.last_id() == 65
            break
        except StoreAway:
            threading.Event().wait(0.01)


def test_a_word_to_the_servers_is_heard(folder: Path, store_url: str) -> None:
    store = open_store(place(folder, store_url, "quay1"))
    store.upgrade()
    heard = threading.Event()
    listening = store.listen(heard.set)
    assert isinstance(listening, Listening)
    while not heard.wait(0.05):  # it may not listen yet
        store.add_requests([])
    listening.close()


# --- allowances ------------------------------------------------------------------------------------------------------


def test_an_allowance_is_reserved_in_parts_and_never_exceeded(serve: Callable[[str], Serving]) -> None:
    quay1, quay2 = serve("quay1"), serve("quay2")

    def reserve(serving: Serving, count: int, most: int = 300) -> int:
        return serving.reads.reserve("beacon", f"{most}/day", NOW, most, count) or 0

    assert [reserve(quay1, 1), reserve(quay2, 1), reserve(quay1, 200)] == [6, 6, 200]
    assert [reserve(quay2, 100), reserve(quay2, 80)] == [0, 80], "no part of a message leaves"
    assert [reserve(quay1, 1), reserve(quay2, 1), reserve(quay2, 3)] == [6, 2, 0]
    assert reserve(quay1, 12, most=10) == 12, "a message that is larger than the period may have it, unused"
    assert reserve(quay2, 1, most=10) == 0


# --- what it must be -------------------------------------------------------------------------------------------------


def test_what_makes_commits_lie_is_refused_and_tls_and_password_are_demanded(
    folder: Path, authority: CertificateFiles, stranger: CertificateFiles
) -> None:
    port = free_port()
    with database_server() as server:
        _demand_tls(server, authority, port)
        url = f"postgresql://kite@localhost:{port}/kite"
        trusted = str(authority.authority)

        def probe(password: str | None = "right", trust: str = trusted, tls: bool = True) -> None:
            secret = None if password is None else Secret(password)
            open_store(StorePlace(folder, url, secret, tls, trust, "quay1.example")).probe()

        probe()
        for wrong, why in (
            ({"password": "wrong"}, "password authentication failed"),
            ({"trust": str(stranger.authority)}, "certificate verify failed"),
            ({"tls": False}, "no encryption"),
        ):
            with pytest.raises(StoreError, match=why) as error:
                probe(**wrong)  # type: ignore[arg-type]
            assert "right" not in str(error.value)
        server.stop()
        server.start(f"-c listen_addresses=127.0.0.1 -p {port} -c fsync=off")
        with pytest.raises(StoreError, match="a commit is not durable there: fsync is off"):
            probe()


def _demand_tls(server: DatabaseServer, authority: CertificateFiles, port: int) -> None:
    """Have a server listen on a port, for a user with a password, and under TLS alone."""
    server.sql("CREATE ROLE kite LOGIN PASSWORD 'right'; CREATE SCHEMA AUTHORIZATION kite")
    server.stop()
    data = server.folder / "data"
    owner = data.stat()
    for name, file in (("server.crt", authority.certificate), ("server.key", authority.key)):
        (data / name).write_bytes(file.read_bytes())
        (data / name).chmod(0o600)
        os.chown(data / name, owner.st_uid, owner.st_gid)
    (data / "pg_hba.conf").write_text("hostssl all kite 127.0.0.1/32 scram-sha-256\nlocal all all trust\n")
    with (data / "postgresql.conf").open("a") as settings:
        settings.write("ssl = on\n")
    server.start(f"-c listen_addresses=127.0.0.1 -p {port}")


def test_a_newer_schema_is_refused_unless_it_works_with_this_one(
    folder: Path, store_url: str, database: DatabaseServer
) -> None:
    store = open_store(place(folder, store_url, "quay1"))
    assert isinstance(store, PostgresStore)
    store.probe()
    with pytest.raises(StoreError, match="no queue here yet"):
        store.reader()
    store.upgrade()
    user = parse_store_url(store_url).user
    database.sql(f"UPDATE {user}.schema SET version = {SCHEMA + 1}, works_with = {SCHEMA}")
    store.reader().close()
    database.sql(f"UPDATE {user}.schema SET works_with = {SCHEMA + 1}")
    with pytest.raises(StoreError, match=f"schema {SCHEMA + 1}, this release knows {SCHEMA}"):
        store.reader()


def test_nothing_is_said_of_a_database_that_is_not_there(
    folder: Path, store_url: str, database: DatabaseServer
) -> None:
    where = place(folder, store_url, "quay1")
    gone = database.add_user("nobody")
    remove_user(database, "nobody")
    with pytest.raises(StoreAway, match="the database cannot be used"):
        open_store(StorePlace(where.folder, gone)).reader()
