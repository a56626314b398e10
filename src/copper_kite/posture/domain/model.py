"""The findings of `kite domain`: a line for each record that receivers look up."""

from __future__ import annotations

from dataclasses import dataclass, field
from enum import StrEnum
from typing import NamedTuple

from copper_kite.net import Lookups
from copper_kite.settings import Loaded

__all__ = ["DomainReport", "Grade", "Line", "Question", "TxtRecord"]


class Grade(StrEnum):
    """The grade of a record."""

    GOOD = "good"
    REMARK = "remark"  # it works, and could be better; or it is not needed and not there
    MISSING = "missing"
    WRONG = "wrong"
    UNKNOWN = "unknown"  # nobody could tell

    @property
    def bad(self) -> bool:
        """Whether somebody has to do something."""
        return self in (Grade.MISSING, Grade.WRONG, Grade.UNKNOWN)


class TxtRecord(NamedTuple):
    """A record to publish, by its full name without the last dot."""

    name: str
    text: str

    @property
    def line(self) -> str:
        """The line of a zone file; the text in parts of 255 octets at most (RFC 1035 3.3.14)."""
        parts = [self.text[place : place + 255] for place in range(0, len(self.text), 255)]
        quoted = " ".join('"' + part.replace("\\", "\\\\").replace('"', '\\"') + '"' for part in parts)
        return f"{self.name}. IN TXT {quoted}"


class Line(NamedTuple):
    """One finding: its topic (`SPF`), its subject (a name, an address, a connector), its grade and the explanation."""

    topic: str
    of: str
    grade: Grade
    text: str
    publish: TxtRecord | None = None
    secure: bool = False  # by DNSSEC
    unanswered: bool = False  # by DNS

    @classmethod
    def no_answer(cls, topic: str, of: str, problem: str) -> Line:
        """The line for a lookup that failed."""
        return cls(topic, of, Grade.UNKNOWN, f"no answer from DNS: {problem}", unanswered=True)


@dataclass(slots=True)
class DomainReport:
    """All lines about one domain, and its SPF records as a tree of indented lines."""

    domain: str
    lines: list[Line] = field(default_factory=list)
    spf_tree: list[str] = field(default_factory=list)

    @property
    def bad(self) -> bool:
        """Whether something is missing, wrong or unknown."""
        return any(line.grade.bad for line in self.lines)


@dataclass(frozen=True, slots=True)
class Question:
    """The input of the checks: a domain, lookups, the configuration, and an instant (seconds since 1970).

    `selectors` are DKIM selectors that are not ours; `addresses` those that our own connections come from;
    `certificates` say of what and of whom they are, and when they end.
    """

    domain: str
    lookups: Lookups
    loaded: Loaded
    now: float
    selectors: tuple[str, ...] = ()
    addresses: tuple[str, ...] = ()
    certificates: tuple[tuple[str, str, float], ...] = ()
