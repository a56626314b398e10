"""The events of a message, one line each, in the order of time, and its present state."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from copper_kite.clock import span_text
from copper_kite.mail import format_date
from copper_kite.routing import choose_connector
from copper_kite.settings import host_of
from copper_kite.smtp import split_reply
from copper_kite.store import Attempt, AttemptNow, CarrierThen, JournalEntry, Recipient, Record, SessionFacts, slot_of
from copper_kite.words import OPEN, Event

__all__ = ["StoryLine", "session_words", "timeline"]

WAIT = 1.0  # seconds: a shorter pause is no wait
OURS = "this server"


@dataclass(frozen=True, slots=True)
class StoryLine:
    """One event: its time (seconds since 1970), event, stage, actor, reply and text."""

    at: float
    what: str
    stage: str
    who: str
    code: str
    text: str
    server: str = ""  # that did it, where several share the queue


def timeline(
    record: Record, stops: Sequence[tuple[float, float]], attempt: AttemptNow | None, now: float
) -> list[StoryLine]:
    """The events of the record, with the waits between; `stops` are times when no server ran; `attempt` is the one that
    runs `now` (seconds since 1970)."""
    names = record.servers if len(record.servers) > 1 else {}
    lines = [_done_by(names.get(slot_of(record.message.id), ""), _accepted_line(record)), *_choices(record)]
    for ended in record.attempts:
        name = names.get(slot_of(ended.id), "")
        lines += [_done_by(name, line) for line in _attempt_lines(ended)]
    for entry in record.journal:
        if (line := _LINES.get(entry.event)) is not None:
            lines.append(_done_by(names.get(entry.server, ""), line(entry)))
    if attempt is not None:
        lines.append(_running_line(attempt, now))
    lines.sort(key=lambda line: line.at)
    return _with_waits(lines, stops)


def _done_by(server: str, line: StoryLine) -> StoryLine:
    return replace(line, server=server) if server else line


def _accepted_line(record: Record) -> StoryLine:
    message = record.message
    about = next((entry.facts["about"] for entry in record.journal if entry.event is Event.ABOUT), None)
    if about is not None:
        return StoryLine(message.arrived, "accepted", "", OURS, "", f"notice about message {about}")
    logged_in = message.protocol.endswith("A")
    who = f"{'account' if logged_in else 'user'} {message.user}" if message.user else message.client
    count = len(record.recipients) - _added_later(record)
    recipients = f" for {count} recipients" if count > 1 else ""
    where = f" from {message.client}" if message.user and message.client != "unix" else ""
    secure = "S" in message.protocol.removeprefix("UTF8").removeprefix("E").removeprefix("SMTP")
    tls = f" under {message.tls or 'TLS'}" if secure else ""
    text = f"by listener {message.listener} with {message.protocol}{where}{tls}{recipients}"
    return StoryLine(message.arrived, "accepted", "", who, "250 2.0.0", text)


def _added_later(record: Record) -> int:
    """How many recipients an administrator added, each in the place of another."""
    return sum(len(entry.facts.get("added", ())) for entry in record.journal if entry.event is Event.ORDERED)


def _choices(record: Record) -> list[StoryLine]:
    """The connector of each recipient, and why: at the first choice, and whenever the configuration chose another one
    while it waited."""
    if not record.routes:  # it is older than what is written down of them
        return []
    lines, chosen = [], dict.fromkeys(record.recipients, "")
    for since, connectors in record.routes:
        at = max(since, record.message.arrived)
        groups: dict[tuple[str, str], list[str]] = {}
        for recipient in record.recipients:
            name, why = _choice(record, recipient, connectors, at)
            if name != chosen[recipient] and _waited_at(recipient, at, record):
                chosen[recipient] = name
                groups.setdefault((name, why), []).append(recipient.address)
        lines += list(_choice_lines(at, groups, len(record.recipients)))
    return lines


def _choice(record: Record, recipient: Recipient, connectors: Sequence[CarrierThen], at: float) -> tuple[str, str]:
    """The connector of a recipient at an instant, and why it was that one; empty where there is none."""
    ordered = _ordered_by(record, recipient.address, at)
    if ordered and any(connector.name == ordered and connector.enabled for connector in connectors):
        return ordered, "an administrator chose it"
    result = choose_connector(connectors, recipient.address, record.message.reverse_path)
    return (result.connector.name, dict(result.reasons)[result.connector.name]) if result.connector else ("", "")


def _ordered_by(record: Record, address: str, at: float) -> str:
    """The connector that an administrator had chosen for an address by then."""
    orders = [entry.facts["to"] for entry in record.journal
              if entry.event is Event.ORDERED and entry.facts["action"] == "send by" and entry.at <= at
              and address in entry.facts["recipients"]]  # fmt: skip
    return orders[-1] if orders else ""


def _waited_at(recipient: Recipient, at: float, record: Record) -> bool:
    return at <= record.message.arrived or recipient.state in OPEN or recipient.changed >= at


def _choice_lines(at: float, groups: Mapping[tuple[str, str], Sequence[str]], of: int) -> Iterator[StoryLine]:
    for (connector, why), addresses in groups.items():
        whom = f" for {', '.join(addresses)}" if len(addresses) < of else ""
        text = (
            f"connector {connector}{whom}: {why}" if connector else f"no connector{whom}: none has a pattern that fits"
        )
        yield StoryLine(at, "chosen", "", OURS, "", text)


# --- attempts -------------------------------------------------------------------------------------------------------


def _attempt_lines(attempt: Attempt) -> list[StoryLine]:
    """The addresses skipped or tried in vain, and one line for each group of recipients with the same result."""
    groups: dict[tuple[str, str, str], list[str]] = {}
    for address, state, stage, reply in attempt.facts.results:
        groups.setdefault((state, stage, reply), []).append(address)
    ended = attempt.at + attempt.seconds
    who = f"{attempt.connector} → {attempt.next_hop}" if attempt.connector and attempt.next_hop else OURS
    lines = list(_in_vain(attempt))
    if attempt.facts.changed:
        lines.append(StoryLine(attempt.at, "encoded", "", OURS, "", f"{attempt.facts.changed} for {who}"))
    for (state, stage, reply), addresses in groups.items():
        code, text = split_reply(reply)
        whom = f"{', '.join(addresses)}: " if len(groups) > 1 else ""
        lines.append(StoryLine(ended, state, stage, who, code, whom + (text or attempt.text)))
    return lines


def _in_vain(attempt: Attempt) -> Iterator[StoryLine]:
    """The next hops that were not tried since they were down, and the addresses that gave no session."""
    session = attempt.facts.session
    for hop in session.passed_over:
        if all(hop.next_hop != tried.next_hop for tried in session.tried):
            code, text = split_reply(hop.said)
            since = f"{text} (down since {format_date(hop.since)})"
            who = f"{attempt.connector} → {hop.next_hop}"
            yield StoryLine(attempt.at, "passed over", hop.stage, who, code, since)
    relayed = attempt.facts.relayed
    for tried in session.tried:
        if relayed or (tried.next_hop, tried.address) != (attempt.next_hop, attempt.address):  # that is the end itself
            code, text = split_reply(tried.said)
            where = "" if tried.address in ("", host_of(tried.next_hop)) else f"{tried.address}: "
            who = f"{attempt.connector} → {tried.next_hop}"
            yield StoryLine(attempt.at, "tried", tried.stage, who, code, where + text)


def _running_line(attempt: AttemptNow, now: float) -> StoryLine:
    opening = "" if attempt.message else "a session is being opened, "
    text = f"{opening}for {span_text(max(now - attempt.since, 0.0), ' ')}"
    return StoryLine(attempt.since, "running", attempt.stage, f"→ {attempt.address or attempt.next_hop}", "", text)


_POLICIES = {"dane": "DANE", "sts": "MTA-STS", "sts, testing": "MTA-STS (testing)",
             "sts, testing: failed": "MTA-STS (testing: it fails)"}  # fmt: skip


def session_words(session: SessionFacts) -> str:
    """The TLS of a session, its login, and the domains that signed the message."""
    unverified = ", certificate not verified" if session.trust == "unverified" else ""
    tls = f"{session.tls} {session.cipher}{unverified}" if session.tls else "no TLS"
    if session.policy:
        tls += f", by {_POLICIES.get(session.policy, session.policy)}"
    login = f", logged in as {session.login}" if session.login else ""
    return tls + login + (f", signed by {session.signed}" if session.signed else "")


# --- the journal ----------------------------------------------------------------------------------------------------


def _notice_line(entry: JournalEntry) -> StoryLine:
    facts = entry.facts
    return StoryLine(entry.at, "notice", "", OURS, "", f"told {facts['to']} with message {facts['notice']}")


def _ordered_line(entry: JournalEntry) -> StoryLine:
    return StoryLine(entry.at, _PAST[entry.facts["action"]], "", entry.facts["who"], "", _ordered(entry.facts))


def _ordered(facts: Mapping[str, Any]) -> str:
    whom = ", ".join(facts["recipients"])
    by = {"send by": "through connector", "send to": "to"}.get(facts["action"])
    return f"{whom}: {by} {facts['to']}" if by else whom


def _taken_up_line(entry: JournalEntry) -> StoryLine:
    text = f"from the drop folder; left there on {format_date(entry.facts['left'])}, while no server took it"
    return StoryLine(entry.at, "taken up", "", OURS, "", text)


def _remark_line(entry: JournalEntry) -> StoryLine:
    return StoryLine(entry.at, "remark", "", OURS, "", entry.facts["text"])


def _beyond_line(entry: JournalEntry) -> StoryLine:
    """The content of a later notice."""
    facts = entry.facts
    code, text = split_reply(facts["said"])
    who = facts["at_server"] or facts["reporter"]
    return StoryLine(
        entry.at, facts["action"] or "told", "", who, code or facts["status"], f"{facts['recipient']}: {text}"
    )


_PAST = {
    "retry": "retried", "park": "parked", "release": "released", "remove": "removed", "return": "returned",
    "send by": "redirected", "send to": "redirected",
}  # fmt: skip
_LINES = {
    Event.NOTICE: _notice_line,
    Event.ORDERED: _ordered_line,
    Event.TAKEN_UP: _taken_up_line,
    Event.REMARK: _remark_line,
    Event.BEYOND: _beyond_line,
}


def _with_waits(lines: Sequence[StoryLine], stops: Sequence[tuple[float, float]]) -> list[StoryLine]:
    """The lines, with what is between them where nothing happened; and why, where no server ran."""
    told: list[StoryLine] = []
    for line in lines:
        if told and line.at - told[-1].at >= WAIT:
            begin, end = told[-1].at, line.at
            stopped = sum(max(min(end, until) - max(begin, since), 0.0) for since, until in stops)
            why = f", {span_text(stopped, ' ')} of it while no server ran" if stopped >= WAIT else ""
            told.append(StoryLine(begin, "waited", "", "", "", f"{span_text(end - begin, ' ')}{why}"))
        told.append(line)
    return told
