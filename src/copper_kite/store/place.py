"""Where a store is: a data folder, or a PostgreSQL database that several servers share."""

from __future__ import annotations

import re
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING
from urllib.parse import parse_qsl, unquote

if TYPE_CHECKING:
    from copper_kite.smtp import Secret

__all__ = ["LEASE_SECONDS", "DatabaseAddress", "StorePlace", "parse_store_url"]

LEASE_SECONDS = 30.0
_URL = re.compile(r"postgres(?:ql)?://(?:([^@/?#:]+)@)?([^/?#@]*)/([^/?#]+)(?:\?([^#]*))?")
_HOST = re.compile(r"([^:\[\]]+|\[[0-9A-Fa-f:.]+\])(?::(\d{1,5}))?")


@dataclass(frozen=True, slots=True)
class DatabaseAddress:
    """The parts of `postgresql://user@host:port/database`; several hosts stand for one that fails over. A host that is
    a folder holds a Unix socket."""

    user: str
    hosts: tuple[str, ...]
    ports: tuple[int, ...]
    database: str

    @property
    def local(self) -> bool:
        """Whether nothing of it crosses a network."""
        return all(host.startswith("/") for host in self.hosts)

    def __str__(self) -> str:
        where = ",".join(f"{host}:{port}" for host, port in zip(self.hosts, self.ports, strict=True))
        return f"{self.database} at {where}"


def parse_store_url(text: str) -> DatabaseAddress:
    """Raises ValueError, with what is wrong."""
    match = _URL.fullmatch(text)
    if match is None:
        if re.match(r"postgres(ql)?://[^@/]*:[^@/]*@", text):
            raise ValueError("a password does not belong here: put it into the credentials file, as store_credential")
        raise ValueError("it is neither empty nor postgresql://user@host/database")
    user, where, database, query = match.groups()
    if not user:
        raise ValueError("the database's user is missing: postgresql://user@host/database")
    parameters = dict(parse_qsl(query or ""))
    folder = parameters.pop("host", "")
    if parameters:
        raise ValueError(f"the parameter {next(iter(parameters))} is unknown; there is only host=/folder/of/a/socket")
    if folder:
        port = int(match[1]) if (match := re.fullmatch(r"[^:]*:(\d{1,5})", where)) else 5432
        return DatabaseAddress(unquote(user), (folder,), (port,), unquote(database))
    hosts, ports = [], []
    for item in where.split(","):
        host = _HOST.fullmatch(item)
        if host is None or not 0 < int(host[2] or 5432) < 65536:
            raise ValueError(f"{item!r} is no host, or host:port")
        hosts.append(host[1].strip("[]"))
        ports.append(int(host[2] or 5432))
    return DatabaseAddress(unquote(user), tuple(hosts), tuple(ports), unquote(database))


@dataclass(frozen=True, slots=True)
class StorePlace:
    """A data folder; and where the queue is in a shared database, its `url` and what else is needed to get there.

    `trust` is `system` or a file of authorities; without `tls` the connection is in clear. `server` is the name that
    this server has among those that share the queue, `lease` the seconds after which the others take over its mail.
    """

    folder: Path
    url: str = ""
    password: Secret | None = None
    tls: bool = True
    trust: str = "system"
    server: str = ""
    lease: float = LEASE_SECONDS

    def __str__(self) -> str:
        return str(parse_store_url(self.url)) if self.url else str(self.folder)
