"""A real PostgreSQL server from Debian, started by the tests; each test has a user with a schema of its own in it."""

from __future__ import annotations

import os
import pwd
import secrets
import shutil
import subprocess
import tempfile
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

import pytest

__all__ = ["DatabaseServer", "database_server"]


def _program(name: str) -> str | None:
    versions = sorted(Path("/usr/lib/postgresql").glob("*/bin"), key=lambda each: int(each.parent.name), reverse=True)
    return shutil.which(name, path=os.pathsep.join(map(str, versions))) or shutil.which(name)


def _owner() -> str | None:
    """The user that it runs as: it refuses to be root."""
    if os.geteuid():
        return None
    try:
        return pwd.getpwnam("postgres").pw_name
    except KeyError:
        pytest.skip("PostgreSQL does not run as root, and there is no user postgres")


@dataclass
class DatabaseServer:
    """A running server, reached by the socket in its folder."""

    folder: Path

    def start(self, *words: str) -> None:
        _run("pg_ctl", "-D", str(self.folder / "data"), "-w", "-t", "60", "-l", str(self.folder / "log"),
             "-o", " ".join((f"-k {self.folder}", *words)), "start")  # fmt: skip

    def stop(self, mode: str = "fast") -> None:
        _run("pg_ctl", "-D", str(self.folder / "data"), "-w", "-m", mode, "stop")

    def sql(self, statement: str, database: str = "postgres") -> str:
        """What psql prints of a statement's rows."""
        done = _run("psql", "-X", "-q", "-A", "-t", "-h", str(self.folder), "-U", "postgres", "-c", statement, database)
        return done.strip()

    def new_user(self) -> str:
        """The name of a user with a schema of its own in the database `kite`."""
        name = f"kite_{secrets.token_hex(6)}"
        self.sql(f"CREATE ROLE {name} LOGIN; CREATE SCHEMA AUTHORIZATION {name}", "kite")
        return name

    def url(self, user: str) -> str:
        return f"postgresql://{user}@/kite?host={self.folder}"

    def remove_user(self, user: str) -> None:
        """With all that it had; whoever is connected as it is cut off."""
        self.sql(
            f"SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE usename = '{user}';"
            f"DROP OWNED BY {user} CASCADE; DROP ROLE {user}",
            "kite",
        )


def _run(name: str, *words: str) -> str:
    program = _program(name)
    assert program is not None
    done = subprocess.run(
        [program, *words], user=_owner(), cwd="/", text=True, stderr=subprocess.STDOUT,
        # what `pg_ctl start` leaves running holds its output open
        stdout=subprocess.DEVNULL if name == "pg_ctl" else subprocess.PIPE,
    )  # fmt: skip
    assert done.returncode == 0, (name, done.stdout)
    return done.stdout or ""


@contextmanager
def database_server(*words: str, networks: Sequence[str] = ()) -> Iterator[DatabaseServer]:
    """A server in memory, where there is a file system for that: its commits are as durable as it.

    It lets in whoever comes from `networks`.
    """
    missing = [name for name in ("initdb", "pg_ctl", "psql") if _program(name) is None]
    if missing:
        pytest.skip(f"needs Debian's postgresql; {missing[0]} is not there")
    base = "/dev/shm" if os.access("/dev/shm", os.W_OK) else None
    folder = Path(tempfile.mkdtemp(prefix="kite-db-", dir=base))
    owner = _owner()
    if owner is not None:
        shutil.chown(folder, owner)
    server = DatabaseServer(folder)
    try:
        _run("initdb", "-D", str(folder / "data"), "-A", "trust", "-E", "UTF8", "--locale=C", "-U", "postgres")
        with (folder / "data" / "pg_hba.conf").open("a") as rules:
            rules.writelines(f"host all all {network} trust\n" for network in networks)
        server.start(*(words or ("-c listen_addresses=",)))
        try:
            server.sql("CREATE DATABASE kite")
            yield server
        finally:
            server.stop("immediate")
    finally:
        shutil.rmtree(folder, ignore_errors=True)
