"""What notices from elsewhere tell of messages that left here: joined to them, noted in their stories, grouped."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from copper_kite.errors import Ambiguous, NotFound
from copper_kite.mail.returned import Returned, ReturnedFor
from copper_kite.store.ids import ID_LENGTH
from copper_kite.store.model import JournalEntry, Message, Recipient, Selection
from copper_kite.store.reads import Reader, Record
from copper_kite.verdict.judge import Judgement, judge
from copper_kite.words import Cause, Event, Side, Stage, State

__all__ = ["Group", "Told", "find_message", "group", "judge_told", "notes"]


@dataclass(frozen=True, slots=True)
class Told:
    """What a notice tells of one recipient; `id` is our message, None when it cannot be found."""

    notice: Returned
    about: ReturnedFor
    id: int | None
    sender: str = ""


@dataclass(slots=True)
class Group:
    """What many notices tell alike."""

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


def notes(record: Record, told: Sequence[Told], now: float) -> list[JournalEntry]:
    """What of this is new in the message's story; `now` in seconds since 1970."""
    known = {_key(entry.facts) for entry in record.journal if entry.event is Event.BEYOND}
    entries = []
    for one in told:
        about, notice = one.about, one.notice
        facts = {
            "notice": notice.id,
            "reporter": notice.reporter,
            "recipient": about.recipient,
            "original": about.original,
            "action": about.action,
            "status": about.status,
            "said": about.said[:300],
            "at_server": about.at_server,
        }
        if _key(facts) not in known:
            known.add(_key(facts))
            entries.append(JournalEntry(at=notice.at or now, event=Event.BEYOND, message=one.id, facts=facts))
    return entries


def _key(facts: Mapping[str, Any]) -> tuple[str, str, str]:
    return facts["notice"], facts["recipient"], facts["action"]


def group(told: Iterable[Told]) -> list[Group]:
    """Those that tell the same, by what happened and where; the largest group first."""
    groups: dict[tuple[str, str, str], Group] = {}
    for one in told:
        about = one.about
        domain = about.recipient.rpartition("@")[2].lower()
        key = (about.action, about.status, about.at_server or domain)
        groups.setdefault(key, Group(*key)).told.append(one)
    return sorted(
        groups.values(), key=lambda found: (-len(found.told), not found.action, found.status, found.at_server)
    )


def judge_told(about: Mapping[str, Any], more: Mapping[str, Any]) -> Judgement:
    """What it means; `about` has recipient, action, status, said, at_server, reporter. `more` fills the sentences."""
    code, status = _code(about)
    said = str(about["said"])
    facts = {
        "next_hop": about["at_server"] or about["reporter"] or "the server there",
        "host": about["at_server"] or about["reporter"],
        "recipient": about["recipient"],
        "text": said,
        "more": "kite notice FILE",
        **more,
    }
    if code is None or about["action"] in ("delivered", "relayed", "expanded"):
        meaning = {"delivered": "It is in the mailbox.", "relayed": "It went on, to where nobody tells.",
                   "expanded": "It went to all whom that address stands for."}.get(about["action"], "")  # fmt: skip
        return Judgement(Side.BEYOND, meaning or "The notice tells no reason.", "nothing to do")
    judged = judge(Stage.RECIPIENT, Cause.REPLY, code, status, facts)
    side = Side.HERE if judged.side is Side.HERE else Side.BEYOND
    return Judgement(side, judged.meaning, judged.next)


def _code(about: Mapping[str, Any]) -> tuple[int | None, str]:
    """The reply's code, and the enhanced one; where only that is told, a code of its class."""
    said, status = str(about["said"]), str(about["status"])
    words = said.split()
    number = words[0][:3] if words else ""
    if number.isdigit() and number[0] in "245":
        own = words[1] if len(words) > 1 and words[1].count(".") == 2 else ""
        return int(number), own if own.replace(".", "").isdigit() and own[0] == number[0] else status
    kind = status[:1] or {"failed": "5", "delayed": "4"}.get(about["action"], "")
    return (int(kind) * 100 + 50 if kind in ("4", "5") else None), status
