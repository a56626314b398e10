"""Notices from other servers, joined to the messages they report, recorded in their histories, and grouped."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from copper_kite.errors import Ambiguous, NotFound
from copper_kite.mail import Returned, ReturnedFor
from copper_kite.store import ID_LENGTH, JournalEntry, Message, Reader, Recipient, Record, Selection
from copper_kite.words import Event, State

__all__ = ["Group", "Told", "find_message", "group_told", "notice_entries"]


MAX_SAID = 300  # characters of a reply that are kept


@dataclass(frozen=True, slots=True)
class Told:
    """A notice's result for one recipient; `id` is our message, None when it cannot be found."""

    notice: Returned
    about: ReturnedFor
    id: int | None
    sender: str = ""

    @property
    def facts(self) -> dict[str, str]:
        """The facts as the journal has them and verdicts take them."""
        about = self.about
        return {
            "notice": self.notice.id,
            "reporter": self.notice.reporter,
            "recipient": about.recipient,
            "original": about.original,
            "action": about.action,
            "status": about.status,
            "said": about.said[:MAX_SAID],
            "at_server": about.at_server,
        }


@dataclass(slots=True)
class Group:
    """A group of notices with the same result."""

    action: str
    status: str
    at_server: str
    told: list[Told] = field(default_factory=list)


def find_message(reader: Reader, server: str, notice: Returned) -> tuple[Message, list[Recipient]] | None:
    """Our message that a notice is about: by the id in our own `Received:`, or in the ENVID, or by its Message-ID."""
    ids = [hop.id for hop in notice.hops if hop.receiver.lower() == server.lower()]
    for id in (*ids, notice.envelope_id):
        if len(id) == ID_LENGTH:
            try:
                return reader.recipients(reader.resolve(id))
            except (NotFound, Ambiguous):
                continue
    if not notice.message_id:
        return None
    rows = reader.select(Selection(states=tuple(State), message_id=notice.message_id), 2, newest=True)
    return reader.recipients(rows[0].message.id) if rows else None


def notice_entries(record: Record, told: Sequence[Told], now: float) -> list[JournalEntry]:
    """Journal entries for the results that the message does not have yet; `now` in seconds since 1970."""
    known = {_key(entry.facts) for entry in record.journal if entry.event is Event.BEYOND}
    entries = []
    for item in told:
        facts = item.facts
        if _key(facts) not in known:
            known.add(_key(facts))
            entries.append(JournalEntry(at=item.notice.at or now, event=Event.BEYOND, message=item.id, facts=facts))
    return entries


def _key(facts: Mapping[str, Any]) -> tuple[str, str, str]:
    return facts["notice"], facts["recipient"], facts["action"]


def group_told(told: Iterable[Told]) -> list[Group]:
    """The results grouped by what happened and where; the largest group first."""
    groups: dict[tuple[str, str, str], Group] = {}
    for item in told:
        about = item.about
        domain = about.recipient.rpartition("@")[2].lower()
        key = (about.action, about.status, about.at_server or domain)
        groups.setdefault(key, Group(*key)).told.append(item)
    return sorted(
        groups.values(), key=lambda group: (-len(group.told), not group.action, group.status, group.at_server)
    )
