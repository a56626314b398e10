"""The journal as a log: one entry for each event and each recipient it concerns."""

from __future__ import annotations

import time
from collections.abc import Iterator, Mapping
from contextlib import closing

from copper_kite.net import SIGNS
from copper_kite.smtp import visible
from copper_kite.store import Attempt, Happened, JournalEntry, Message, StorePlace, id_range, id_text, open_store
from copper_kite.trace.linemap import Entry
from copper_kite.trace.sought import Sought
from copper_kite.words import Event, Stage, State

__all__ = ["JOURNAL", "dialogue_entries", "history_entries", "journal_entries"]

JOURNAL = "journal"  # as the name of a source


# What an entry may say without a column that says it.
_OWN_WORDS = " ".join((
    *Event, *State, *Stage, "accepted from user by listener this server id sender message_id subject size text",
    "recipient connector next_hop stage code reply",
))  # fmt: skip
DAY = 86400.0


def history_entries(place: StorePlace, host: str, sought: Sought) -> Iterator[Entry]:
    """The entries of a journal that may be meant, in order. Raises StoreError."""
    bounds = id_range(sought.id) if sought.id else None
    if sought.id and (bounds is None or bounds[0] != bounds[1]):
        return  # it is no whole id: no message has it
    word = "" if sought.any_case else sought.needle
    if word in _OWN_WORDS or not word.isascii() or id_range(word) is not None or any(char in word for char in '="\\ '):
        word = ""
    since = 0.0 if sought.since is None else sought.since
    until = time.time() + DAY if sought.until is None else sought.until
    with closing(open_store(place).history()) as history:
        for happened in history.between(since, until, word, None if bounds is None else bounds[0]):
            yield from journal_entries(happened, host)


def dialogue_entries(place: StorePlace, host: str, sought: Sought) -> Iterator[Entry]:
    """The lines of dialogues that are kept, in the order of what they belong to. Raises StoreError."""
    bounds = id_range(sought.id) if sought.id else None
    since = 0.0 if sought.since is None else sought.since
    until = time.time() + DAY if sought.until is None else sought.until
    with closing(open_store(place).history()) as history:
        for item, message, server in history.between(since, until, "", None if bounds is None else bounds[0]):
            if isinstance(item, Attempt) and item.dialogue:
                with_whom, began, lines = f"{item.connector} → {item.next_hop}", item.at, item.dialogue
            elif isinstance(item, JournalEntry) and item.event is Event.DIALOGUE:
                with_whom = f"{item.facts['listener']} ← {item.facts['client']}"
                began, lines = item.at, item.facts["lines"]
            else:
                continue
            id = id_text(item.message) if item.message is not None else ""
            for _, said_by, text in lines:
                said = f"{with_whom}  {SIGNS[said_by]} {text}"
                yield _entry(server or host, began, Event.DIALOGUE.value, message, id=id, text=said)


def journal_entries(happened: Happened, host: str) -> Iterator[Entry]:
    """The entries of an event as a log has them; `host` is this server, where there are no others."""
    item, message, server = happened
    host = server or host
    if isinstance(item, Message):
        yield _submission(item, host)
    elif isinstance(item, Attempt):
        yield from _attempt(item, message, host)
    elif item.event is not Event.DIALOGUE:  # which is no entry, but many lines
        yield _noted(item, message, host)


def _entry(host: str, at: float, word: str, message: Message | None, **facts: str) -> Entry:
    """An entry with the words of the server's log."""
    pairs = {name: visible(value) for name, value in facts.items() if value}
    raw = " ".join([word, *(f"{name}={value}" for name, value in pairs.items())])
    return Entry(
        at,
        JOURNAL,
        raw,
        host=host,
        id=pairs.get("id", ""),
        message_id=message.message_id if message is not None else "",
        sender=message.reverse_path if message is not None else "",
        recipient=pairs.get("recipient", ""),
        code=pairs.get("code", ""),
        text=pairs.get("text", ""),
        outcome=word,
    )


def _submission(message: Message, host: str) -> Entry:
    who = f"user {message.user}" if message.user else message.client
    text = f"from {who} by listener {message.listener}" if message.listener else "by this server"
    return _entry(
        host, message.arrived, "accepted", message, id=id_text(message.id), sender=message.reverse_path,
        message_id=message.message_id, subject=message.subject, size=str(message.size), text=text,
    )  # fmt: skip


def _attempt(attempt: Attempt, message: Message | None, host: str) -> Iterator[Entry]:
    for address, state, stage, reply in attempt.facts.results:
        yield _entry(
            host, attempt.at + attempt.seconds, state, message, id=id_text(attempt.message), recipient=address,
            connector=attempt.connector, next_hop=attempt.next_hop, stage=stage,
            code=reply.split(" ")[0] if reply[:3].isdigit() else "", text=reply or attempt.text,
        )  # fmt: skip


def _words(event: Event, facts: Mapping[str, str]) -> str:
    """The event of a journal entry, in words."""
    if event is Event.ROUTES:
        return f"by connectors {facts['connectors']}"
    if event is Event.ORDERED:
        where = f" {facts['to']}" if "to" in facts else ""
        return f"{facts['action']}{where} by {facts['who']}" + f": {facts['recipients']}" * bool(facts["recipients"])
    if event in (Event.DOWN, Event.BACK):
        where = f"{facts['connector']} → {facts['next_hop']}"
        return f"{where}: {facts['text']}" if event is Event.DOWN else where
    if event is Event.NOTICE:
        return f"{facts['notice']} tells {facts['to']}"
    if event is Event.ABOUT:
        return f"a notice about {facts['about']}"
    return facts.get("text") or " ".join(f"{name} {value}" for name, value in facts.items() if value)


def _noted(entry: JournalEntry, message: Message | None, host: str) -> Entry:
    facts = {name: ", ".join(map(str, value)) if isinstance(value, list) else str(value)
             for name, value in entry.facts.items()}  # fmt: skip
    if entry.event is Event.ROUTES:
        facts["connectors"] = ", ".join(name for name, *_ in entry.facts["connectors"])
    text = _words(entry.event, facts)
    id = id_text(entry.message) if entry.message is not None else ""
    return _entry(host, entry.at, entry.event.value, message, id=id, text=text, recipient=facts.get("recipient", ""))
