"""One message's story: a timeline out of what the store recorded, and the verdict on it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from copper_kite.clock import span_text
from copper_kite.mail import format_date
from copper_kite.settings import host_of
from copper_kite.smtp import split_reply
from copper_kite.store import Attempt, AttemptNow, JournalEntry, Message, Recipient, Record, id_text
from copper_kite.trace.timeline import StoryLine, session_words, timeline
from copper_kite.trace.told import judge_told
from copper_kite.verdict import Verdict, judge_attempt
from copper_kite.words import Cause, CauseKind, Event, Side, Stage, State

if TYPE_CHECKING:
    from copper_kite.trace.linemap import Entry

__all__ = ["Story", "StoryLine", "tell_story"]

MOST_NAMED = 3  # recipients of one way


@dataclass(frozen=True, slots=True)
class Story:
    """A message with its recipients, its timeline, its attempts and the verdict."""

    message: Message
    recipients: Sequence[Recipient]
    lines: Sequence[StoryLine]
    attempts: Sequence[Attempt]
    verdict: Verdict
    submissions: Sequence[JournalEntry] = ()  # the dialogues with the programs that submitted it
    elsewhere: Sequence[Entry] = ()  # what the logs of other programs and hosts have of it


def tell_story(
    record: Record,
    facts: Mapping[str, Any],
    *,
    running: bool,
    stops: Sequence[tuple[float, float]] = (),
    attempt: AttemptNow | None = None,
    now: float = 0.0,
) -> Story:
    """The story of one message.

    `facts` is what the sentences may name beyond the record: `connectors`, of each by its name its `credential`, and
    whether it has `mx`; `running` says whether a server holds the queue now. `stops` are times when no server ran;
    `attempt` is the one that runs `now` (seconds since 1970), if there is one.
    """
    lines = timeline(record, stops, attempt, now)
    verdict = _verdict(record, facts, running, attempt, now)
    submissions = [entry for entry in record.journal if entry.event is Event.DIALOGUE]
    return Story(record.message, record.recipients, lines, record.attempts, verdict, submissions)


# --- the verdict ----------------------------------------------------------------------------------------------------


def _verdict(
    record: Record, facts: Mapping[str, Any], running: bool, attempt: AttemptNow | None, now: float
) -> Verdict:
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
    if attempt is not None:
        return _under_way(attempt, now)
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
    removed = f"Removed for {whom}: it is not sent, and nobody was told."
    return Verdict(Side.HERE, removed, evidence, advice="nothing to do")


_COMMANDS = {"send by": "redirect", "send to": "redirect"}  # by the words of the journal


def _waits(running: bool, attempts: int) -> Verdict:
    which = "next" if attempts else "first"
    evidence = f"{attempts} attempt{'s' * (attempts > 1)} so far, and it is due" if attempts else "no attempt yet"
    if running:
        return Verdict(None, f"It waits for its {which} attempt, which comes by itself.", evidence, "kite status")
    return Verdict(None, "It waits, and no server is running.", evidence, "kite serve")


_GRAVITY = ("", "expanded", "relayed", "delivered", "delayed", "failed")


def _told_beyond(record: Record, entry: JournalEntry) -> Verdict:
    """The next hop took it, and a later notice reported the outcome."""
    facts = entry.facts
    judged = judge_told(facts, {"id": id_text(record.message.id), "sender": record.message.reverse_path})
    opening = {
        "failed": f"It was relayed, and returned from beyond for {facts['recipient']}.",
        "delayed": f"It was relayed, and waits beyond for {facts['recipient']}.",
    }.get(facts["action"], f"It was relayed; a notice tells of {facts['recipient']}.")
    evidence = f"{facts['said'] or facts['status']} (notice {facts['notice']} by {facts['reporter']})"
    return judged.verdict(f"{opening} {judged.meaning}", evidence)


def _under_way(attempt: AttemptNow, now: float) -> Verdict:
    """The verdict while an attempt is under way."""
    where = attempt.next_hop + (f" ({attempt.address})" if attempt.address else "")
    took = span_text(max(now - attempt.since, 0.0), " ")
    if attempt.message:
        meaning = f"It is being handed to {where}; that has come to stage {attempt.stage}."
    else:
        meaning = f"It waits for a session with {where}, which is being opened and has come to stage {attempt.stage}."
    evidence = f"an attempt that has run for {took}, since {format_date(attempt.since)}"
    return Verdict(None, meaning, evidence, advice="nothing to do: it ends by itself, by its time limits at the latest")


def _went(record: Record, relayed: Sequence[Recipient]) -> Verdict:
    """The verdict on a relayed message: each next hop with its recipients."""
    ways: dict[tuple[str, str], list[Recipient]] = {}
    for recipient in relayed:
        attempt, _, _ = _last_result(record, recipient)
        ways.setdefault((attempt.next_hop, session_words(attempt.facts.session)), []).append(recipient)
    told = [_way(where, how, recipients, len(relayed)) for (where, how), recipients in ways.items()]
    said = dict.fromkeys(_last_result(record, recipients[0])[2] for recipients in ways.values())
    hosts = dict.fromkeys(host_of(where) for where, _ in ways)
    return Verdict(
        None,
        " ".join(told),
        "; ".join(filter(None, said)),
        advice=f"if it does not arrive, give {'this reply' if len(said) == 1 else 'these replies'} to who runs"
        f" {' or '.join(hosts)}",
    )


def _way(where: str, how: str, recipients: Sequence[Recipient], of: int) -> str:
    """The sentence on one next hop."""
    if of == 1:
        whom = recipients[0].address
    elif len(recipients) == of:
        whom = f"all {of} recipients"
    else:
        whom = _listed([recipient.address for recipient in recipients])
    return f"Relayed for {whom}: {where} has taken it over ({how}) and answers for it from here."


def _listed(addresses: Sequence[str]) -> str:
    shown = ", ".join(addresses[:MOST_NAMED])
    return shown if len(addresses) <= MOST_NAMED else f"{shown} and {len(addresses) - MOST_NAMED} more"


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
        "host": host_of(attempt.next_hop),
        "address": attempt.address,
        "login": attempt.facts.session.login,
        "text": attempt.text,
        "id": id_text(record.message.id),
        **facts.get("connectors", {}).get(attempt.connector, {}),
        "more": f"kite trace --dialogue {id_text(record.message.id)}",
        "sender": record.message.reverse_path,
    }
    judgement = judge_attempt(Stage(stage), cause, int(number) if number else None, enhanced, known)
    evidence = reply or attempt.text
    meaning = f"{_opening(state, recipient, by_state, running)} {judgement.meaning}"
    if state is State.FAILED and not number.startswith("5") and not cause.final:
        lifetime = span_text(record.message.expires - record.message.arrived, " ")
        meaning = f"{meaning} So it was until its lifetime of {lifetime} was over: it expired."
    evidence = f"{evidence} (stage {stage})"
    if state is State.DELAYED and not running:
        return Verdict(judgement.side, meaning, evidence, "kite serve")
    return judgement.verdict(meaning, evidence)


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
    kind = Cause(attempt.cause).kind if attempt.cause else CauseKind.NONE
    return own and not (kind & (CauseKind.BEFORE | CauseKind.FINAL))
