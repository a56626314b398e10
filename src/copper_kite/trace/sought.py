"""The filter for log entries."""

from __future__ import annotations

from dataclasses import dataclass

from copper_kite.trace.linemap import Entry

__all__ = ["Sought"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Sought:
    """A filter for entries; what is empty or None excludes nothing.

    All `words` stand in the line; `sender` and `recipient` are parts of them, `code` the beginning of one; `since` and
    `until` are instants, which an entry without a time does not meet.
    """

    words: tuple[str, ...] = ()
    any_case: bool = False
    id: str = ""
    sender: str = ""
    recipient: str = ""
    code: str = ""
    outcome: str | None = None
    since: float | None = None
    until: float | None = None

    def holds(self, entry: Entry) -> bool:
        """Whether an entry is meant."""
        line = entry.raw.lower() if self.any_case else entry.raw
        return (
            all((word.lower() if self.any_case else word) in line for word in self.words)
            and (not self.id or entry.id.upper() == self.id.upper())
            and self.sender.lower() in entry.sender.lower()
            and self.recipient.lower() in entry.recipient.lower()
            and entry.code.startswith(self.code)
            and self.outcome in (None, entry.outcome)
            and self._is_in_time(entry)
        )

    def _is_in_time(self, entry: Entry) -> bool:
        if self.since is None and self.until is None:
            return True
        since, until = self.since or float("-inf"), self.until or float("inf")
        return entry.at is not None and since <= entry.at <= until

    @property
    def needle(self) -> str:
        """Text that every matching line contains, as it is written; empty where none is known."""
        return max(self.words, key=len, default="")
