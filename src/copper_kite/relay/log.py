"""The server's log: one line for each thing that happened, with the id of the message it is about.

What it holds is in the journal, too; this is for whoever gathers the logs of many programs. A log that cannot be
written is never a reason to stop: what is lost is counted, and told when it can be written again.
"""

from __future__ import annotations

import errno
import json
import os
import re
import select
import socket
import sys
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path
from typing import Protocol

from copper_kite.settings import LEVELS
from copper_kite.settings import Log as LogSettings
from copper_kite.smtp import visible

__all__ = ["Log", "open_log"]

FACILITY = 2  # mail system, RFC 5424 6.2.1
SEVERITIES = {"error": 3, "warning": 4, "notice": 5, "info": 6}
ENTERPRISE = "kite@32473"  # 32473 is the number that RFC 5612 keeps for examples
SYSLOG = "/dev/log"
_PLAIN = re.compile(r'[^\s"=\\]+')
_PARAMETER = re.compile(r'["\\\]]')

Format = Callable[[float, str, str, dict[str, str]], str]


class _Out(Protocol):
    def write(self, line: str) -> None: ...
    def close(self) -> None: ...


class Log:
    """Writes lines of at least `level`. `now` gives seconds since 1970."""

    def __init__(self, out: _Out, form: Format, level: str, now: Callable[[], float]) -> None:
        self._now = now
        self._lost = 0
        self._go_on(out, form, level)

    def _go_on(self, out: _Out, form: Format, level: str) -> None:
        self._out = out
        self._form = form
        self._wanted = frozenset(LEVELS[LEVELS.index(level) :])

    def take_up(self, settings: LogSettings, folder: Path, server: str) -> None:
        """Go on as other settings say. A file is reopened, since log rotation has moved the old one.

        Raises OSError when it cannot be opened; then all stays as it was.
        """
        out, form = _opened(settings, folder, server)
        self._out.close()
        self._go_on(out, form, settings.level)

    def wants(self, level: str) -> bool:
        """Whether a line of this level is written: to be asked where making one costs something."""
        return level in self._wanted

    def write(self, level: str, event: str, **facts: object) -> None:
        """One line: `id` first where it is about a message; empty facts are left out."""
        if not self.wants(level):
            return
        shown = {key: visible(str(value)) for key, value in facts.items() if value not in ("", None)}
        try:
            if self._lost:
                self._out.write(self._form(self._now(), "warning", "lost", {"lines": str(self._lost)}))
                self._lost = 0
            self._out.write(self._form(self._now(), level, event, shown))
        except OSError:
            self._lost += 1

    def close(self) -> None:
        """Write no more."""
        self._out.close()


def open_log(settings: LogSettings, folder: Path, server: str, now: Callable[[], float]) -> Log:
    """As `[log]` says; a relative file counts from `folder`. Raises OSError when it cannot be opened."""
    return Log(*_opened(settings, folder, server), settings.level, now)


def _opened(settings: LogSettings, folder: Path, server: str) -> tuple[_Out, Format]:
    forms: dict[str, Format] = {"lines": _lines, "json": _json, "rfc5424": _rfc5424(server)}
    out: _Out
    if settings.to == "syslog":
        out, form = _Syslog(SYSLOG), forms["rfc5424"]
    elif settings.to == "stderr":
        out, form = _Stream(), forms[settings.format]
    else:
        path = folder / settings.to.removeprefix("file:")
        out, form = _File(path, settings.max_size, settings.keep), forms[settings.format]
    return out, form


# --- forms ------------------------------------------------------------------------------------------------------------


def _time(at: float) -> str:
    return datetime.fromtimestamp(at, UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z")


def _lines(at: float, level: str, event: str, facts: dict[str, str]) -> str:
    shown = [value if _PLAIN.fullmatch(value) else json.dumps(value, ensure_ascii=False) for value in facts.values()]
    pairs = " ".join(f"{key}={value}" for key, value in zip(facts, shown, strict=True))
    return f"{_time(at)} {level} {event} {pairs}".rstrip()


def _json(at: float, level: str, event: str, facts: dict[str, str]) -> str:
    return json.dumps({"time": _time(at), "level": level, "event": event, **facts}, ensure_ascii=False)


def _rfc5424(server: str) -> Format:
    host, pid = server[:255], os.getpid()

    def form(at: float, level: str, event: str, facts: dict[str, str]) -> str:
        escaped = {key: _PARAMETER.sub(lambda match: "\\" + match[0], value) for key, value in facts.items()}
        data = "".join(f' {key}="{value}"' for key, value in escaped.items())
        priority = FACILITY * 8 + SEVERITIES[level]
        text = " ".join(filter(None, (event, facts.get("id", ""))))
        return f"<{priority}>1 {_time(at)} {host} copper-kite {pid} {event} [{ENTERPRISE}{data}] {text}"

    return form


# --- where it goes ----------------------------------------------------------------------------------------------------


class _Stream:
    """Standard error. A pipe without a reader must not stop the server: then lines are lost, and counted."""

    def write(self, line: str) -> None:
        octets, out = line.encode()[: select.PIPE_BUF - 1] + b"\n", sys.stderr.fileno()
        _, ready, _ = select.select([], [out], [], 0)
        if not ready:
            raise BlockingIOError(errno.EAGAIN, "nobody reads standard error")
        os.write(out, octets)  # no more than surely goes at once

    def close(self) -> None:
        """Others write there, too."""


FOR_FEW = 0o640  # a log names senders and recipients: it is not for every user of the machine


class _File:
    """A file; when it is full, it becomes FILE.1, that one FILE.2, and so on, of which `keep` stay."""

    def __init__(self, path: Path, most: int, keep: int) -> None:
        self._path, self._most, self._keep = path, most, keep
        self._open()

    def _open(self) -> None:
        self._path.parent.mkdir(parents=True, exist_ok=True)
        descriptor = os.open(self._path, os.O_WRONLY | os.O_APPEND | os.O_CREAT, FOR_FEW)
        self._file = os.fdopen(descriptor, "a", encoding="utf-8", buffering=1)
        self._size = self._path.stat().st_size

    def write(self, line: str) -> None:
        size = len(line.encode()) + 1
        if self._size + size > self._most and self._size:
            self._turn()
        self._file.write(line + "\n")
        self._size += size

    def _turn(self) -> None:
        self._file.close()
        names = [self._path, *(self._path.with_name(f"{self._path.name}.{n}") for n in range(1, self._keep + 1))]
        for older, newer in zip(reversed(names[1:]), reversed(names[:-1]), strict=True):
            if newer.exists():
                newer.replace(older)
        if not self._keep:
            self._path.unlink()
        self._open()

    def close(self) -> None:
        self._file.close()


class _Syslog:
    """The local syslog socket; connected again when the syslog daemon was restarted."""

    def __init__(self, path: str) -> None:
        self._path = path
        self._socket: socket.socket | None = None
        self._connect()

    def _connect(self) -> None:
        sock = socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM)
        try:
            sock.setblocking(False)
            sock.connect(self._path)
        except OSError:
            sock.close()
            raise
        self._socket = sock

    def write(self, line: str) -> None:
        try:
            if self._socket is None:
                self._connect()
            assert self._socket is not None
            self._socket.send(line.encode())
        except OSError:
            self.close()
            raise

    def close(self) -> None:
        if self._socket is not None:
            self._socket.close()
            self._socket = None
