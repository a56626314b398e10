"""Trace one message through the logs of several programs and hosts.

They are joined by what one hands on to the other: the Message-ID, and the id that the next server gives in its last
reply. Each log's own id then leads to the rest of what that log has of the message.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field

from copper_kite.trace.linemap import Entry
from copper_kite.trace.logs import LogSource

__all__ = ["Clues", "candidates", "join"]

ROUNDS = 6  # of looking again for what was learnt
MAX_CLUES = 200
CLOCKS_DIFFER = 3600.0  # seconds; ids are used again, on some hosts soon
_WORD = re.compile(r"[A-Za-z0-9][A-Za-z0-9._-]{4,63}")
_ENHANCED = re.compile(r"[245]\.\d{1,3}\.\d{1,3}")


@dataclass(slots=True)
class Clues:
    """The keys of a message: its Message-IDs; ids by the log that they are from; ids in replies whose owner is
    unknown."""

    message_ids: set[str] = field(default_factory=set)
    own: dict[str, set[str]] = field(default_factory=dict)
    handed_on: set[str] = field(default_factory=set)
    since: float | None = None  # what is older by a clock's error, or more, is about another message

    def words(self, source: str) -> set[str]:
        """The text to look for in one log."""
        return {word for word in self.message_ids | self.handed_on | self.own.get(source, set()) if word}

    def fits(self, entry: Entry) -> bool:
        """Whether an entry is about the message, and not only has the same letters somewhere."""
        if self.since is not None and entry.at is not None and entry.at < self.since - CLOCKS_DIFFER:
            return False
        if entry.id and (entry.id in self.own.get(entry.source, ()) or entry.id in self.handed_on):
            return True
        return entry.message_id in self.message_ids or any(id in entry.raw for id in self.message_ids)

    def learn(self, entry: Entry) -> None:
        """Take from an entry what leads on."""
        if entry.id:
            self.own.setdefault(entry.source, set()).add(entry.id)
        if entry.message_id:
            self.message_ids.add(entry.message_id)
        if entry.next_id:
            self.handed_on.add(entry.next_id)
        elif entry.outcome == "relayed":
            self.handed_on |= candidates(entry.text)


def candidates(reply: str) -> set[str]:
    """The words of a last reply that may be the id which the next server gave: they have a digit."""
    return {word for word in _WORD.findall(reply) if any(map(str.isdigit, word)) and not _ENHANCED.fullmatch(word)}


def join(sources: Sequence[LogSource], clues: Clues, now: float) -> list[Entry]:
    """All entries about the message, in the order of time; those without a time at the end of their log's.

    Raises InputError for a log that cannot be read.
    """
    results: dict[str, dict[str, Entry]] = {source.name: {} for source in sources}  # by source and line
    looked: dict[str, set[str]] = {source.name: set() for source in sources}
    for _ in range(ROUNDS):
        before = sum(map(len, results.values())), len(clues.message_ids), len(clues.handed_on)
        for source in sources:
            words = set(list(clues.words(source.name) - looked[source.name])[:MAX_CLUES])
            looked[source.name] |= words
            for entry in source.search([word.encode() for word in words], now) if words else ():
                if clues.fits(entry):
                    results[source.name].setdefault(entry.raw, entry)
                    clues.learn(entry)
        if before == (sum(map(len, results.values())), len(clues.message_ids), len(clues.handed_on)):
            break
    return _in_time(entry for entries in results.values() for entry in entries.values())


def _in_time(entries: Iterable[Entry]) -> list[Entry]:
    last: dict[str, float] = {}
    keyed: list[tuple[float, int, Entry]] = []
    for number, entry in enumerate(entries):
        at = entry.at if entry.at is not None else last.get(entry.source, 0.0)
        last[entry.source] = at
        keyed.append((at, number, entry))
    return [entry for _, _, entry in sorted(keyed, key=lambda key: key[:2])]
