"""A PostgreSQL server of one's own, in a folder: for the demo, for benches and for tests."""

from __future__ import annotations

import os
import pwd
import shutil
import subprocess
from collections.abc import Sequence
from pathlib import Path

from copper_kite.errors import KiteError

__all__ = ["DatabaseServer", "NoDatabase"]

PROGRAMS = ("initdb", "pg_ctl", "psql")
START_SECONDS = 60


class NoDatabase(KiteError):
    """Raised when no PostgreSQL server can be started here."""

    exit_code = 3


def _program(name: str) -> str:
    """Where a program is: the newest that Debian has, or what the path has. Raises NoDatabase."""
    versions = sorted(Path("/usr/lib/postgresql").glob("*/bin"), key=lambda each: int(each.parent.name), reverse=True)
    program = shutil.which(name, path=os.pathsep.join(map(str, versions))) or shutil.which(name)
    if program is None:
        raise NoDatabase(f"PostgreSQL's server is not installed here ({name} is missing): apt install postgresql")
    return program


def _owner() -> str | None:
    """The user that it runs as, where this one is root, which it refuses to be. Raises NoDatabase."""
    if os.geteuid():
        return None
    try:
        return pwd.getpwnam("postgres").pw_name
    except KeyError:
        raise NoDatabase("PostgreSQL does not run as root, and there is no user postgres to run it") from None


class DatabaseServer:
    """A server in an empty folder, reached by the socket in it; its database is `kite`."""

    def __init__(self, folder: Path, networks: Sequence[str] = ()) -> None:
        """Create it, open to connections from `networks`. Raises NoDatabase."""
        self.folder = folder
        owner, _ = _owner(), [_program(name) for name in PROGRAMS]
        if owner is not None:
            shutil.chown(folder, owner)
        _run("initdb", "-D", str(folder / "data"), "-A", "trust", "-E", "UTF8", "--locale=C", "-U", "postgres")
        with (folder / "data" / "pg_hba.conf").open("a") as rules:
            rules.writelines(f"host all all {network} trust\n" for network in networks)

    def start(self, *words: str) -> None:
        """Start it; without words, it listens on its socket alone. Raises NoDatabase."""
        given = " ".join((f"-k {self.folder}", *(words or ("-c listen_addresses=",))))
        places = ("-D", str(self.folder / "data"), "-l", str(self.folder / "log"))
        _run("pg_ctl", *places, "-w", "-t", str(START_SECONDS), "-o", given, "start")

    def stop(self, mode: str = "fast") -> None:
        """Stop it. Raises NoDatabase."""
        _run("pg_ctl", "-D", str(self.folder / "data"), "-w", "-m", mode, "stop")

    def sql(self, statement: str, database: str = "kite") -> str:
        """The rows of a statement as text. Raises NoDatabase."""
        where = ("-h", str(self.folder), "-U", "postgres", "-v", "ON_ERROR_STOP=1")
        return _run("psql", "-X", "-q", "-A", "-t", *where, "-c", statement, database).strip()

    def add_user(self, name: str) -> str:
        """Add a user with a schema of its own; the URL of a queue there. Raises NoDatabase."""
        self.sql(f"CREATE ROLE {name} LOGIN; CREATE SCHEMA AUTHORIZATION {name}")
        return f"postgresql://{name}@/kite?host={self.folder}"


def _run(name: str, *words: str) -> str:
    # What `pg_ctl start` leaves running would hold a pipe open.
    output = subprocess.DEVNULL if name == "pg_ctl" else subprocess.PIPE
    done = subprocess.run(
        [_program(name), *words],
        user=_owner(),
        cwd="/",
        stdout=output,
        stderr=subprocess.STDOUT,
        text=True,
        check=False,
    )
    if done.returncode:
        raise NoDatabase(f"{name} failed: {(done.stdout or 'see the log in its folder').strip()}")
    return done.stdout or ""
