"""A real PostgreSQL server from Debian, started by the tests; each test has a user with a schema of its own in it."""

from __future__ import annotations

import os
import secrets
import shutil
import tempfile
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path

import pytest

from copper_kite.demo.database import DatabaseServer, NoDatabase

__all__ = ["database_server", "new_user", "remove_user"]


def new_user() -> str:
    return f"kite_{secrets.token_hex(6)}"


def remove_user(server: DatabaseServer, user: str) -> None:
    """With all that it had; whoever is connected as it is cut off."""
    server.sql(
        f"SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE usename = '{user}';"
        f"DROP OWNED BY {user} CASCADE; DROP ROLE {user}"
    )


@contextmanager
def database_server(*words: str, networks: Sequence[str] = ()) -> Iterator[DatabaseServer]:
    """A server in memory, where there is a file system for that: its commits are as durable as it."""
    base = "/dev/shm" if os.access("/dev/shm", os.W_OK) else None
    folder = Path(tempfile.mkdtemp(prefix="kite-db-", dir=base))
    try:
        try:
            server = DatabaseServer(folder, networks)
        except NoDatabase as error:
            pytest.skip(str(error))
        server.start(*words)
        try:
            server.sql("CREATE DATABASE kite", "postgres")
            yield server
        finally:
            with suppress(NoDatabase):  # a test may have stopped it
                server.stop("immediate")
    finally:
        shutil.rmtree(folder, ignore_errors=True)
