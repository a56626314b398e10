"""The environment of the configuration: the running server and the software that it runs on."""

from __future__ import annotations

import ssl
import sys
from dataclasses import dataclass
from pathlib import Path

from copper_kite.settings import Loaded
from copper_kite.store import running_server

__all__ = ["Surroundings", "look_around"]


@dataclass(frozen=True, slots=True)
class Surroundings:
    """`user`: that the server runs as, None where none runs; `confined`: whether it can gain no rights, as under the
    unit that `kite service` writes; the names in its environment; versions."""

    user: int | None = None
    confined: bool = True
    environment: tuple[str, ...] = ()
    python: tuple[int, int] = sys.version_info[:2]
    openssl: tuple[int, int] = ssl.OPENSSL_VERSION_INFO[:2]


def look_around(loaded: Loaded) -> Surroundings:
    """Look at the running server and its software."""
    running = running_server(loaded.data)
    if running is None:
        return Surroundings()
    place = Path("/proc") / str(running.pid)
    try:
        status = (place / "status").read_text()
        user = place.stat().st_uid
    except OSError:
        return Surroundings()
    return Surroundings(user, "NoNewPrivs:\t1" in status, _names(place))


def _names(place: Path) -> tuple[str, ...]:
    try:
        lines = (place / "environ").read_bytes().split(b"\0")
    except OSError:
        return ()
    return tuple(line.partition(b"=")[0].decode("utf-8", "replace") for line in lines if line)
