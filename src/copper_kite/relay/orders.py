"""What an administrator wants done with messages in the queue: tried now, parked, released, removed."""

from __future__ import annotations

from collections.abc import Sequence

from copper_kite.store.model import Change, JournalEntry, Message, Outcome, Recipient, Wanted
from copper_kite.words import Action, Event, State

__all__ = ["carry_out", "may"]

_OPEN = frozenset({State.QUEUED, State.DELAYED})
# What each action takes, and what it makes of it.
_MOVES: dict[Action, tuple[frozenset[State], State]] = {
    Action.RETRY: (_OPEN | {State.FAILED}, State.QUEUED),
    Action.PARK: (_OPEN, State.PARKED),
    Action.RELEASE: (frozenset({State.PARKED}), State.QUEUED),
    Action.REMOVE: (_OPEN | {State.PARKED, State.FAILED}, State.REMOVED),
}


def may(action: Action, state: State) -> bool:
    """Whether an action means anything for a recipient in this state."""
    return state in _MOVES[action][0]


def carry_out(message: Message, recipients: Sequence[Recipient], wanted: Sequence[Wanted], now: float) -> Change:
    """The change that does what is `wanted` of this one message; what has ended meanwhile stays as it is.

    A recipient that had failed gets another lifetime. `now` in seconds since 1970.
    """
    by_number = {recipient.number: recipient for recipient in recipients}
    outcomes: dict[int, Outcome] = {}
    journal, expires = [], message.expires
    for one in wanted:
        recipient = by_number.get(one.recipient)
        takes, becomes = _MOVES[one.action]
        if recipient is None or recipient.state not in takes:
            continue
        if recipient.state is State.FAILED and becomes is State.QUEUED:
            expires = max(expires, now + message.expires - message.arrived)
        outcomes[recipient.number] = Outcome(
            message.id,
            recipient.number,
            becomes,
            recipient.attempts,
            now if becomes is State.QUEUED else None,
            recipient.connector,
            recipient.reply,
            now,
        )
        by_number[recipient.number] = recipient._replace(state=becomes)
        journal.append((one.at, one.action, one.who, recipient.address))
    entries = [
        JournalEntry(
            at=now,
            event=Event.ORDERED,
            message=message.id,
            facts={
                "action": action.value,
                "who": who,
                "recipients": [r for a, b, c, r in journal if (b, c) == (action, who)],
            },
        )
        for action, who in dict.fromkeys((action, who) for _, action, who, _ in journal)
    ]
    return Change(
        outcomes=list(outcomes.values()),
        journal=entries,
        done=[one.number for one in wanted],
        extended=[(expires, message.id)] if expires > message.expires else (),
    )
