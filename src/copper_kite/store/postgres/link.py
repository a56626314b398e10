"""A connection to the database whose every question has an end, and which is made again when it is lost."""

from __future__ import annotations

import select
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from typing import Any, TypeVar

import psycopg
from psycopg.abc import PQGen

from copper_kite.errors import StoreAway, StoreError
from copper_kite.store.place import StorePlace, parse_store_url

__all__ = ["Database", "Link", "away", "connect"]

CONNECT_SECONDS = 5
READ_SECONDS = 5.0  # that a server's read may take: its loop waits for it
COMMAND_SECONDS = 120.0  # that a command's may
BY_KEY = " ".join(
    f"-c {name}=off" for name in ("jit", "enable_seqscan", "enable_hashjoin", "enable_mergejoin", "enable_material")
)
AGAIN_SECONDS = (0.2, 5.0)  # from one try to connect to the next: the first, and the longest

R = TypeVar("R")


class Database(psycopg.Connection[tuple[Any, ...]]):
    """A connection on which nothing takes longer than `seconds`: then it is closed, as what it does is not known."""

    seconds = COMMAND_SECONDS

    def wait(self, gen: PQGen[R], interval: float = 1.0, *_: Any, **__: Any) -> R:
        deadline, poll, socket = time.monotonic() + self.seconds, select.poll(), self.pgconn.socket
        try:
            wanted = next(gen)
            while True:
                poll.register(socket, (wanted & 1 and select.POLLIN) | (wanted & 2 and select.POLLOUT))
                left = deadline - time.monotonic()
                ready = poll.poll(max(0.0, min(interval, left)) * 1000)
                if not ready and left <= 0:
                    self.pgconn.finish()
                    raise psycopg.OperationalError(f"no answer from the database within {self.seconds:.0f} s")
                events = ready[0][1] if ready else 0
                bad = events & (select.POLLERR | select.POLLHUP)
                wanted = gen.send((1 if events & select.POLLIN or bad else 0) | (2 if events & select.POLLOUT else 0))
        except StopIteration as end:
            return end.value  # type: ignore[no-any-return]


def _parameters(place: StorePlace) -> dict[str, Any]:
    """The parameters for libpq."""
    address = parse_store_url(place.url)
    values: dict[str, Any] = {
        "user": address.user, "host": ",".join(address.hosts), "port": ",".join(map(str, address.ports)),
        "dbname": address.database, "connect_timeout": CONNECT_SECONDS, "application_name": "kite",
        "keepalives_idle": 10, "keepalives_interval": 5, "keepalives_count": 3,
        "tcp_user_timeout": 10_000, "target_session_attrs": "read-write", "client_encoding": "UTF8",
    }  # fmt: skip
    if place.password is not None:
        values["password"] = place.password.reveal()
    if address.local or not place.tls:
        values["sslmode"] = "disable"
    else:
        values |= {"sslmode": "verify-full", "sslrootcert": place.trust}
    return values


def connect(
    place: StorePlace, seconds: float = COMMAND_SECONDS, *, autocommit: bool = True, by_key: bool = False
) -> Database:
    """Connect. What a server asks, it asks `by_key`, a few rows of many. Raises psycopg.Error."""
    # A plan that was made while the tables were small is kept, and would read them whole when they no longer are.
    options = BY_KEY if by_key else "-c jit=off"
    connection = Database.connect(**_parameters(place), options=options, autocommit=autocommit, prepare_threshold=3)
    connection.seconds = seconds
    return connection


class Link:
    """Reads through one connection. Raises StoreAway while there is none.

    With `keep`, for a server's loop: a lost connection is made again in a thread, and nobody waits for it.
    """

    def __init__(
        self,
        place: StorePlace,
        demand: Callable[[Database, StorePlace], None] = lambda connection, place: None,
        *,
        keep: bool = False,
    ) -> None:
        """`demand` looks at the database first. Raises what it does, and StoreError."""
        self._place = place
        self._keep = keep
        self._seconds = READ_SECONDS if keep else COMMAND_SECONDS
        self._wait, self._closed = AGAIN_SECONDS[0], False
        self._connecting: threading.Thread | None = None
        try:
            self._connection: Database | None = connect(place, self._seconds, by_key=keep)
            demand(self._connection, place)
        except psycopg.Error as error:
            raise away(place, error) from error

    def close(self) -> None:
        """Close it."""
        self._closed = True
        if self._connection is not None:
            self._connection.close()

    def rows(self, sql: str, values: Sequence[Any] | dict[str, Any] = ()) -> list[tuple[Any, ...]]:
        """All rows of a statement."""
        connection = self._open()
        try:
            return connection.execute(sql, values or None).fetchall()
        except psycopg.Error as error:
            raise away(self._place, error) from error

    def each(self, sql: str, values: Sequence[Any] | dict[str, Any] = ()) -> Iterator[tuple[Any, ...]]:
        """The same, a portion at a time, for many rows."""
        connection = self._open()
        try:
            with connection.transaction(), connection.cursor(name="each") as cursor:
                cursor.itersize = 5000
                yield from cursor.execute(sql, values or None)
        except psycopg.Error as error:
            raise away(self._place, error) from error

    def do(self, sql: str, values: Sequence[Any] | dict[str, Any] = ()) -> int:
        """Carry out a statement that gives no rows; how many it touched."""
        connection = self._open()
        try:
            return connection.execute(sql, values or None).rowcount
        except psycopg.Error as error:
            raise away(self._place, error) from error

    @contextmanager
    def at_once(self) -> Iterator[None]:
        """Several looks at one state of the database; or several changes, kept whole or not at all."""
        connection = self._open()
        try:
            with connection.transaction():
                yield
        except psycopg.Error as error:
            raise away(self._place, error) from error

    def _open(self) -> Database:
        connection = self._connection
        if connection is None or connection.closed:
            if self._keep and self._connecting is None and not self._closed:
                self._connecting = threading.Thread(target=self._connect_again, name="database", daemon=True)
                self._connecting.start()
            raise StoreAway(str(self._place), "the database is away", "it is tried again by itself")
        return connection

    def _connect_again(self) -> None:
        while not self._closed:
            try:
                self._connection = connect(self._place, self._seconds, by_key=True)
                break
            except psycopg.Error:
                time.sleep(self._wait)
                self._wait = min(2 * self._wait, AGAIN_SECONDS[1])
        self._wait, self._connecting = AGAIN_SECONDS[0], None


def away(place: StorePlace, error: psycopg.Error) -> StoreError:
    """The error of a database that cannot be used, in words: StoreAway where that may pass."""
    said = str(error).strip().splitlines()
    problem = said[0] if said else type(error).__name__
    passing = isinstance(error, psycopg.OperationalError | psycopg.InterfaceError)
    kind = StoreAway if passing else StoreError
    return kind(str(place), f"the database cannot be used ({problem})", "see [server] store, and whether it runs")
