"""The errors that leave a package. Each has its facts as fields; the command line makes text and exit status of them.

KiteError
├── EngineMisuse              our own code broke the order of the protocol: a bug
├── ProtocolViolation         the peer broke the protocol
│   └── OutOfStep             a reply that cannot be told to be the answer to a command
├── SettingsError             the configuration cannot be used (exit 3)
├── StoreError                the store cannot be used (exit 3)
│   ├── SchemaTooNew
│   └── FolderInUse
├── StoreFull                 the disk is full: try again later
├── StoreFailed               the disk failed: try again later
├── ListenFailed              an address cannot be listened on (exit 3)
├── Stopping                  the server stops, and takes nothing up any more (exit 3)
├── NotFound                  no such message (exit 1)
├── ContentGone               a message has gone (exit 1)
├── ContentUnreadable         a message's content cannot be read where it should stand (exit 1)
├── Ambiguous                 more than one such message (exit 2)
├── net.failure.SessionFailed a session with a next hop ended early (exit 4)
├── InputError                what was submitted is no message, or has no usable recipient
├── HandOverFailed            the running server did not take a message
└── RehearsalFailed           a rehearsal cannot be made, or met a fault of ours
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

__all__ = [
    "Ambiguous",
    "ContentGone",
    "ContentUnreadable",
    "EngineMisuse",
    "Finding",
    "FolderInUse",
    "HandOverFailed",
    "InputError",
    "KiteError",
    "ListenFailed",
    "NotFound",
    "OutOfStep",
    "ProtocolViolation",
    "RehearsalFailed",
    "SchemaTooNew",
    "SettingsError",
    "Stopping",
    "StoreAway",
    "StoreError",
    "StoreFailed",
    "StoreFull",
]


class KiteError(Exception):
    """The root: whatever this product raises on purpose."""

    exit_code = 1


class EngineMisuse(KiteError):
    """Raised when our own side asks for something that the protocol does not allow now."""


class ProtocolViolation(KiteError):
    """Raised when the peer broke the protocol; `heard` is what it said, cut short."""

    def __init__(self, message: str, heard: bytes = b"") -> None:
        super().__init__(message)
        self.heard = heard[:200]


class OutOfStep(ProtocolViolation):
    """Raised for a reply that no command can have: which reply answers which command is not known any more."""


class Finding(NamedTuple):
    """A problem in a file: its place, the problem, its consequence, and the remedy.

    `level` is `error` (it cannot work so), `warning` (it will go wrong some day) or `remark`.
    """

    file: str
    line: int | None
    key: str
    problem: str
    remedy: str = ""
    why: str = ""
    level: str = "error"

    def __str__(self) -> str:
        place = self.file if self.line is None else f"{self.file}:{self.line}"
        key = f" {self.key}:" if self.key else ""
        remedy = f"; {self.remedy}" if self.remedy else ""
        return f"{place}:{key} {self.problem}{remedy}"


class SettingsError(KiteError):
    """Raised when the configuration cannot be used; holds every finding, not only the first."""

    exit_code = 3

    def __init__(self, findings: Sequence[Finding], hint: str = "") -> None:
        super().__init__("\n".join([*(str(finding) for finding in findings), *filter(None, [hint])]))
        self.findings = tuple(findings)


class NotReadable(KiteError):
    """Raised when this user may not read a file, or look into its folder."""

    exit_code = 3

    def __init__(self, file: str) -> None:
        super().__init__(f"{file}: this user may not read it; run as the server's user, or as root")
        self.file = file


class StoreError(KiteError):
    """Raised when the data folder or its database cannot be opened."""

    exit_code = 3

    def __init__(self, folder: str, problem: str, remedy: str = "") -> None:
        super().__init__(f"{folder}: {problem}" + (f"; {remedy}" if remedy else ""))
        self.folder = folder
        self.problem = problem
        self.remedy = remedy


class StoreAway(StoreError):
    """Raised while the database that servers share does not answer."""


class SchemaTooNew(StoreError):
    """Raised when a later release wrote the database."""

    def __init__(self, folder: str, found: int, known: int) -> None:
        super().__init__(
            folder,
            f"the database has schema {found}, this release knows {known}",
            "install the release that wrote it, or name another folder in [server] data",
        )
        self.found = found
        self.known = known


class FolderInUse(StoreError):
    """Raised when another server holds the data folder."""

    def __init__(self, folder: str, pid: int | None) -> None:
        who = f"process {pid}" if pid else "another process"
        super().__init__(
            folder, f"already served by {who}", "stop that one first, or name another folder in [server] data"
        )
        self.pid = pid


class StoreFull(KiteError):
    """Raised when a write found no room; nothing of it was kept."""


class StoreFailed(KiteError):
    """Raised when a write failed; nothing of it was kept."""


class ContentUnreadable(KiteError):
    """Raised when a message's content cannot be read where it should stand."""

    def __init__(self, message: int, problem: str) -> None:
        super().__init__(f"the content cannot be read: {problem}")
        self.message = message
        self.problem = problem


class ListenFailed(KiteError):
    """Raised when a listener's address cannot be opened."""

    exit_code = 3

    def __init__(self, listener: str, address: str, problem: str, remedy: str = "") -> None:
        super().__init__(f"listener {listener}, {address}: {problem}" + (f"; {remedy}" if remedy else ""))
        self.listener = listener
        self.address = address


class Stopping(KiteError):
    """Raised when something is asked of a server that stops."""

    exit_code = 3


class NotFound(KiteError):
    """Raised when no message has this id."""

    def __init__(self, wanted: str) -> None:
        super().__init__(f"no message {wanted!r}; `kite queue list --all` shows those there are")
        self.wanted = wanted


class ContentGone(KiteError):
    """Raised when a message is known, and what it held is not kept any longer."""

    def __init__(self, id: str) -> None:
        super().__init__(f"the content of message {id} is not kept any longer: it has left, or was removed")
        self.id = id


class Ambiguous(KiteError):
    """Raised when an id's beginning fits several messages; `ids` names some of them."""

    exit_code = 2

    def __init__(self, wanted: str, ids: Sequence[str]) -> None:
        super().__init__(f"{wanted!r} fits several messages: {', '.join(ids)}; type one more character")
        self.wanted = wanted
        self.ids = tuple(ids)


class InputError(KiteError):
    """Raised when a message or an address submitted cannot be used. `usage` tells a bad command line from bad data."""

    def __init__(self, message: str, *, usage: bool = False) -> None:
        super().__init__(message)
        self.usage = usage
        self.exit_code = 2 if usage else 1


class HandOverFailed(KiteError):
    """Raised when the server did not take a message; `temporary` says that trying again later may help."""

    def __init__(self, message: str, *, temporary: bool) -> None:
        super().__init__(message)
        self.temporary = temporary


class RehearsalFailed(KiteError):
    """Raised where a rehearsal cannot be made, or ended by a fault of ours."""
