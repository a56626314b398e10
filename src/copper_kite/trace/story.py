"""One message's story: a timeline out of what the store recorded, and the verdict on it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from copper_kite.clock import span_text
from copper_kite.mail.received import format_date
from copper_kite.routing.choose import Carrier, choose
from copper_kite.smtp.replies import split_reply
from copper_kite.store import Attempt, JournalEntry, Message, Recipient, Record, id_text
from copper_kite.trace.told import judge_told
from copper_kite.verdict.judge import Verdict, judge
from copper_kite.words import FINAL_CAUSES, Cause, Event, Side, Stage, State

if TYPE_CHECKING:
    from copper_kite.trace.linemap import Entry

__all__ = ["Story", "StoryLine", "tell"]


@dataclass(frozen=True, slots=True)
class StoryLine:
    """One thing that happened: when (seconds since 1970), what, how far it got, who did it, the reply, the words."""

    at: float
    what: str
    stage: str
    who: str
    code: str
    text: str


@dataclass(frozen=True, slots=True)
class Story:
    """A message with its recipients, its timeline, its attempts and the verdict."""

    message: Message
    recipients: Sequence[Recipient]
    lines: Sequence[StoryLine]
    attempts: Sequence[Attempt]
    verdict: Verdict
    elsewhere: Sequence[Entry] = ()  # what the logs of other programs and hosts have of it


def tell(
    record: Record,
    facts: Mapping[str, Any],
    *,
    running: bool,
    connectors: Sequence[Carrier] = (),
    stops: Sequence[tuple[float, float]] = (),
) -> Story:
    """The story of one message.

    `facts` is what the sentences may name beyond the record: `config`, and `credentials` (connector → the name of its
    credential); `running` says whether a server holds the queue now. `connectors` are those of today, for the reason
    of the choice; `stops` are times when no server ran.
    """
    lines = [_accepted_line(record), *_choices(record, connectors)]
    for attempt in record.attempts:
        lines += _attempt_lines(attempt)
    lines += [
        StoryLine(
            entry.at, "notice", "", "this server", "", f"told {entry.facts['to']} with message {entry.facts['notice']}"
        )
        for entry in record.journal
        if entry.event is Event.NOTICE
    ]
    lines += [
        StoryLine(entry.at, _PAST[entry.facts["action"]], "", entry.facts["who"], "", _ordered(entry.facts))
        for entry in record.journal
        if entry.event is Event.ORDERED
    ]
    lines += [
        StoryLine(
            entry.at, "taken up", "", "this server", "",
            f"from the drop folder; left there on {format_date(entry.facts['left'])}, while no server took it",
        )
        for entry in record.journal
        if entry.event is Event.TAKEN_UP
    ]  # fmt: skip
    lines += [
        StoryLine(entry.at, "remark", "", "this server", "", entry.facts["text"])
        for entry in record.journal
        if entry.event is Event.REMARK
    ]
    lines += [_beyond_line(entry) for entry in record.journal if entry.event is Event.BEYOND]
    lines.sort(key=lambda line: line.at)
    lines = _with_waits(lines, stops)
    return Story(record.message, record.recipients, lines, record.attempts, _verdict(record, facts, running))


_PAST = {
    "retry": "retried", "park": "parked", "release": "released", "remove": "removed", "return": "returned",
    "send by": "redirected", "send to": "redirected",
}  # fmt: skip


def _beyond_line(entry: JournalEntry) -> StoryLine:
    """What a later notice told."""
    facts = entry.facts
    code, text = split_reply(facts["said"])
    who = facts["at_server"] or facts["reporter"]
    return StoryLine(
        entry.at, facts["action"] or "told", "", who, code or facts["status"], f"{facts['recipient']}: {text}"
    )


def _ordered(facts: Mapping[str, Any]) -> str:
    whom = ", ".join(facts["recipients"])
    by = {"send by": "through connector", "send to": "to"}.get(facts["action"])
    return f"{whom}: {by} {facts['to']}" if by else whom


def _choices(record: Record, connectors: Sequence[Carrier]) -> list[StoryLine]:
    """Which connector carries whom, and why: by the configuration of today, and it says so where that is another."""
    chosen: dict[tuple[str, str], list[str]] = {}
    for recipient in record.recipients:
        found = choose(connectors, recipient.address, record.message.reverse_path)
        today = found.connector.name if found.connector is not None else ""
        if recipient.via and recipient.via == recipient.connector:
            why = "an administrator chose it"
        elif not recipient.connector or not connectors:
            continue
        elif recipient.connector == today:
            why = dict(found.reasons)[today]
        else:
            why = f"by the configuration of then; today it is {today or 'none'}"
        chosen.setdefault((recipient.connector, why), []).append(recipient.address)
    lines = []
    for (connector, why), addresses in chosen.items():
        whom = f" for {', '.join(addresses)}" if len(chosen) > 1 else ""
        lines.append(
            StoryLine(record.message.arrived, "chosen", "", "this server", "", f"connector {connector}{whom}: {why}")
        )
    return lines


WAIT = 1.0  # seconds: a shorter pause is no wait


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


def _accepted_line(record: Record) -> StoryLine:
    message = record.message
    about = next(
        (entry.facts["about"] for entry in record.journal if entry.event is Event.ABOUT),
        None,
    )
    if about is not None:
        return StoryLine(message.arrived, "accepted", "", "this server", "", f"notice about message {about}")
    logged_in = message.protocol.endswith("A")
    who = f"{'account' if logged_in else 'user'} {message.user}" if message.user else message.client
    count = len(record.recipients)
    recipients = f" for {count} recipients" if count > 1 else ""
    where = f" from {message.client}" if message.user and message.client != "unix" else ""
    tls = " under TLS" if "S" in message.protocol.removeprefix("UTF8").removeprefix("E").removeprefix("SMTP") else ""
    text = f"by listener {message.listener} with {message.protocol}{where}{tls}{recipients}"
    return StoryLine(message.arrived, "accepted", "", who, "250 2.0.0", text)


def _attempt_lines(attempt: Attempt) -> list[StoryLine]:
    """One line for each group of recipients with the same end."""
    groups: dict[tuple[str, str, str], list[str]] = {}
    for address, state, stage, reply in attempt.facts.results:
        groups.setdefault((state, stage, reply), []).append(address)
    ended = attempt.at + attempt.seconds
    who = f"{attempt.connector} → {_host(attempt)}" if attempt.connector else "this server"
    lines = []
    if attempt.facts.changed:
        lines.append(StoryLine(attempt.at, "encoded", "", "this server", "", f"{attempt.facts.changed} for {who}"))
    for (state, stage, reply), addresses in groups.items():
        code, text = split_reply(reply)
        whom = f"{', '.join(addresses)}: " if len(groups) > 1 else ""
        lines.append(StoryLine(ended, state, stage, who, code, whom + (text or attempt.text)))
    return lines


# --- the verdict ----------------------------------------------------------------------------------------------------


def _verdict(record: Record, facts: Mapping[str, Any], running: bool) -> Verdict:
    """The verdict on the recipient that matters most: a failed one, else one that waits, else one that went."""
    by_state: dict[State, list[Recipient]] = {}
    for recipient in record.recipients:
        by_state.setdefault(recipient.state, []).append(recipient)
    for state in (State.FAILED, State.DELAYED):
        if state in by_state:
            return _stopped(record, state, by_state, facts, running)
    if State.PARKED in by_state:
        return _at_rest(record, State.PARKED, by_state[State.PARKED])
    if State.RELAYED not in by_state and State.QUEUED not in by_state and State.REMOVED in by_state:
        return _at_rest(record, State.REMOVED, by_state[State.REMOVED])
    returned = [entry for entry in record.journal if entry.event is Event.BEYOND]
    if State.RELAYED in by_state and State.QUEUED not in by_state and returned:
        return _told_beyond(record, max(returned, key=lambda entry: _GRAVITY.index(entry.facts["action"])))
    if State.RELAYED in by_state and State.QUEUED not in by_state:
        return _went(record, by_state[State.RELAYED])
    return _waits(running, len(record.attempts))


def _at_rest(record: Record, state: State, recipients: Sequence[Recipient]) -> Verdict:
    """An administrator stopped it, for a while or for good."""
    order = next(entry for entry in reversed(record.journal) if entry.event is Event.ORDERED)
    whom = recipients[0].address if len(recipients) == 1 else f"{len(recipients)} recipients"
    command = _COMMANDS.get(order.facts["action"], order.facts["action"])
    evidence = f"`kite queue {command}` by {order.facts['who']} on {format_date(order.at)}"
    if state is State.PARKED:
        meaning = f"Parked for {whom}: it is not tried until it is released."
        return Verdict(Side.HERE, meaning, evidence, f"kite queue release {id_text(record.message.id)}")
    return Verdict(Side.HERE, f"Removed for {whom}: it is not sent, and nobody was told.", evidence, "nothing to do")


_COMMANDS = {"send by": "redirect", "send to": "redirect"}  # by the words of the journal


def _waits(running: bool, attempts: int) -> Verdict:
    which = "next" if attempts else "first"
    evidence = f"{attempts} attempt{'s' * (attempts > 1)} so far, and it is due" if attempts else "no attempt yet"
    if running:
        return Verdict(None, f"It waits for its {which} attempt, which comes by itself.", evidence, "kite status")
    return Verdict(None, "It waits, and no server is running.", evidence, "kite serve")


_GRAVITY = ("", "expanded", "relayed", "delivered", "delayed", "failed")


def _told_beyond(record: Record, entry: JournalEntry) -> Verdict:
    """The next hop took it, and later somebody told what became of it."""
    facts = entry.facts
    judged = judge_told(facts, {"id": id_text(record.message.id), "sender": record.message.reverse_path})
    opening = {
        "failed": f"It was relayed, and returned from beyond for {facts['recipient']}.",
        "delayed": f"It was relayed, and waits beyond for {facts['recipient']}.",
    }.get(facts["action"], f"It was relayed; a notice tells of {facts['recipient']}.")
    evidence = f"{facts['said'] or facts['status']} (notice {facts['notice']} by {facts['reporter']})"
    return Verdict(judged.side, f"{opening} {judged.meaning}", evidence, judged.next)


def _went(record: Record, relayed: Sequence[Recipient]) -> Verdict:
    attempt = next(attempt for attempt in reversed(record.attempts) if attempt.facts.relayed)
    session = attempt.facts.session
    tls = f"{session.tls} {session.cipher}" if session.tls else "no TLS"
    login = f", logged in as {session.login}" if session.login else ""
    whom = relayed[0].address if len(relayed) == 1 else f"all {len(relayed)} recipients"
    meaning = f"Relayed for {whom}: {attempt.next_hop} has taken it over ({tls}{login}) and answers for it from here."
    said = _last_reply(record, relayed[0])
    return Verdict(
        None, meaning, f"{said or attempt.text}", f"if it does not arrive, give this reply to who runs {_host(attempt)}"
    )


def _stopped(
    record: Record,
    state: State,
    by_state: Mapping[State, Sequence[Recipient]],
    facts: Mapping[str, Any],
    running: bool,
) -> Verdict:
    recipient = by_state[state][0]
    attempt, stage, reply = _last_result(record, recipient)
    cause = Cause.REPLY if _is_remote(attempt, recipient) else Cause(attempt.cause)
    code, _ = split_reply(reply)
    number, _, enhanced = code.partition(" ")
    known = {
        **facts,
        "recipient": recipient.address,
        "connector": attempt.connector,
        "next_hop": attempt.next_hop,
        "host": _host(attempt),
        "address": attempt.address,
        "login": attempt.facts.session.login,
        "text": attempt.text,
        "id": id_text(record.message.id),
        "credential": facts.get("credentials", {}).get(attempt.connector),
        "more": f"kite trace --dialogue {id_text(record.message.id)}",
        "sender": record.message.reverse_path,
    }
    judgement = judge(Stage(stage), cause, int(number) if number else None, enhanced, known)
    evidence = reply or attempt.text
    meaning = f"{_opening(state, recipient, by_state, running)} {judgement.meaning}"
    if state is State.FAILED and not number.startswith("5") and cause not in FINAL_CAUSES:
        lifetime = span_text(record.message.expires - record.message.arrived, " ")
        meaning = f"{meaning} So it was until its lifetime of {lifetime} was over: it expired."
    next_step = "kite serve" if state is State.DELAYED and not running else judgement.next
    return Verdict(judgement.side, meaning, f"{evidence} (stage {stage})", next_step)


def _opening(state: State, recipient: Recipient, by_state: Mapping[State, Sequence[Recipient]], running: bool) -> str:
    count = len(by_state[state])
    total = sum(map(len, by_state.values()))
    whom = recipient.address if count == 1 else f"{recipient.address} and {count - 1} more"
    share = f" ({total - count} of {total} recipients are not concerned)" if count < total else ""
    if state is State.FAILED:
        return f"Failed for {whom}{share}; it is not tried again."
    return f"Delayed for {whom}{share}." if running else f"Delayed for {whom}{share}, and no server is running."


def _last_result(record: Record, recipient: Recipient) -> tuple[Attempt, str, str]:
    """The last attempt that concerned the recipient, with the stage and reply it ended with."""
    for attempt in reversed(record.attempts):
        for address, _, stage, reply in attempt.facts.results:
            if address == recipient.address:
                return attempt, stage, reply
    raise AssertionError("a recipient cannot be delayed or failed without an attempt")


def _is_remote(attempt: Attempt, recipient: Recipient) -> bool:
    """Whether the recipient's end was a reply of its own, and not something that stopped the whole attempt."""
    own = any(result[0] == recipient.address and result[3] for result in attempt.facts.results)
    return own and attempt.cause not in _KNOWN_BEFORE and attempt.cause not in FINAL_CAUSES


# Known before anything is sent: the reply that is told is our own.
_KNOWN_BEFORE = frozenset(
    {
        Cause.TOO_LARGE,
        Cause.OVER_OWN_LIMIT,
        Cause.LONG_LINES,
        Cause.NEEDS_8BITMIME,
        Cause.NEEDS_SMTPUTF8,
        Cause.TLS_NOT_OFFERED,
    }
)


def _last_reply(record: Record, recipient: Recipient) -> str:
    return _last_result(record, recipient)[2]


def _host(attempt: Attempt) -> str:
    return attempt.next_hop.rpartition(":")[0].strip("[]")
