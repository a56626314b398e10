"""Requests of administrators about messages in the queue: try now, park, release, remove, return, redirect."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field

from copper_kite.errors import ContentUnreadable
from copper_kite.relay.delivery import AttemptFailure, Recorder, Report
from copper_kite.relay.job import Job
from copper_kite.relay.recorded import Recorded
from copper_kite.smtp import encode_xtext
from copper_kite.store import (
    AddRecipient,
    AdminRequest,
    ExtendLifetime,
    FinishRequest,
    JournalEntry,
    Message,
    Operation,
    Recipient,
    SendBy,
    SetState,
)
from copper_kite.words import Action, Cause, Event, Stage, State

__all__ = ["AdminRequests", "may_apply"]

_OPEN = frozenset({State.QUEUED, State.DELAYED})
_KEPT = _OPEN | {State.PARKED, State.FAILED}
# What each action takes, and what it makes of it.
_MOVES: dict[Action, tuple[frozenset[State], State]] = {
    Action.RETRY: (_OPEN | {State.FAILED}, State.QUEUED),
    Action.PARK: (_OPEN, State.PARKED),
    Action.RELEASE: (frozenset({State.PARKED}), State.QUEUED),
    Action.REMOVE: (_KEPT, State.REMOVED),
    Action.RETURN: (_OPEN | {State.PARKED}, State.FAILED),
    Action.SEND_BY: (_KEPT, State.QUEUED),
    Action.SEND_TO: (_KEPT, State.REMOVED),  # and a new recipient takes its place
}


def may_apply(action: Action, state: State) -> bool:
    """Whether an action means anything for a recipient in this state."""
    return state in _MOVES[action][0]


@dataclass(slots=True)
class _Work:
    """The requests on one message so far: the changes to its recipients, by their numbers, and those to add."""

    recipients: dict[int, Recipient]
    states: dict[int, SetState] = field(default_factory=dict)
    sent_by: dict[int, str] = field(default_factory=dict)
    added: list[Recipient] = field(default_factory=list)
    returned: list[Recipient] = field(default_factory=list)
    told: list[tuple[Action, str, str, str]] = field(default_factory=list)  # action, who, target, address
    revived: bool = False


@dataclass(frozen=True, slots=True)
class AdminRequests:
    """Carries out requests. `recorder` writes failures and notices of returned messages; `content` reads a message.

    What has ended meanwhile stays as it is; so does what failed, once its content is gone.
    """

    recorder: Recorder
    content: Callable[[int], Iterable[bytes]]

    def carry_out(
        self, message: Message, recipients: Sequence[Recipient], wanted: Sequence[AdminRequest], now: float
    ) -> Recorded:
        """The operations that carry out the requests `wanted` for this one message.

        A recipient that had failed gets another lifetime. `now` in seconds since 1970.
        """
        work = _Work({recipient.number: recipient for recipient in recipients})
        kept = self._is_kept(message)
        for item in wanted:
            recipient = work.recipients.get(item.recipient)
            if recipient is None or not may_apply(item.action, recipient.state):
                continue
            if kept or recipient.state is not State.FAILED or item.action is Action.REMOVE:
                _move(work, recipient, item, now)
        recorded = self._returned(message, work, now)
        recorded.states = [*work.states.values(), *recorded.states]
        recorded.entries = [*_entries(message, work, now), *recorded.entries]
        others: list[Operation] = [
            *map(AddRecipient, work.added),
            *(SendBy(name, message.id, number) for number, name in work.sent_by.items()),
            *(FinishRequest(item.number) for item in wanted),
        ]
        expires = now + message.expires - message.arrived
        if work.revived and expires > message.expires:
            others.append(ExtendLifetime(message.id, expires))
        recorded.others = others
        return recorded

    def _is_kept(self, message: Message) -> bool:
        try:
            return next(iter(self.content(message.id)), None) is not None
        except ContentUnreadable:
            return True  # whatever can be done with it, it is not gone

    def _returned(self, message: Message, work: _Work, now: float) -> Recorded:
        if not work.returned:
            return Recorded()
        job = Job(message, work.returned, "", None, None, self.content)
        who = next(who for action, who, _, _ in work.told if action is Action.RETURN)
        stop = AttemptFailure(stage=Stage.RESOLVE, cause=Cause.RETURNED, text=f"given up by {who}", attempted=False)
        return self.recorder.record(Report(job, now, 0.0, stop=stop), now)


def _move(work: _Work, recipient: Recipient, request: AdminRequest, now: float) -> None:
    """Do one thing with one recipient."""
    becomes, reply = _MOVES[request.action][1], recipient.reply
    work.revived = work.revived or (recipient.state is State.FAILED and request.action is not Action.REMOVE)
    if request.action is Action.SEND_BY:
        work.sent_by[recipient.number] = request.target
    elif request.action is Action.SEND_TO:
        reply = f"sent to {request.target} instead"
        if not any(other.address == request.target and other.state in _OPEN for other in work.recipients.values()):
            number, parameters = max(work.recipients) + 1, _parameters_for_another(recipient)
            added = Recipient(
                recipient.message, number, request.target, next_try=now, changed=now, esmtp_parameters=parameters
            )
            work.added.append(added)
            work.recipients[number] = added
    elif request.action is Action.RETURN:
        work.returned.append(recipient)
    if request.action is not Action.RETURN:
        next_try = now if becomes is State.QUEUED else None
        work.states[recipient.number] = SetState(
            recipient.message,
            recipient.number,
            becomes,
            recipient.attempts,
            next_try,
            recipient.connector,
            reply,
            now,
            recipient.next_hop,
        )
    work.recipients[recipient.number] = recipient._replace(state=becomes)
    work.told.append((request.action, request.who, request.target, recipient.address))


def _parameters_for_another(recipient: Recipient) -> str:
    """The DSN parameters of a replacing recipient; notices name the original one (RFC 3461 5.2.7)."""
    if "ORCPT=" in recipient.esmtp_parameters.upper() or not recipient.address.isascii():
        return recipient.esmtp_parameters
    return f"{recipient.esmtp_parameters} ORCPT=rfc822;{encode_xtext(recipient.address)}".strip()


def _added(work: _Work, action: Action, target: str) -> list[int]:
    """The numbers of those who took others' place."""
    return [item.number for item in work.added if action is Action.SEND_TO and item.address == target]


def _entries(message: Message, work: _Work, now: float) -> list[JournalEntry]:
    """Journal entries: who requested which action on which messages."""
    groups: dict[tuple[Action, str, str], list[str]] = {}
    for action, who, target, address in work.told:
        groups.setdefault((action, who, target), []).append(address)
    return [
        JournalEntry(
            at=now,
            event=Event.ORDERED,
            message=message.id,
            facts={"action": action.value, "who": who, "recipients": addresses}
            | ({"to": target} if target else {})
            | ({"added": numbers} if (numbers := _added(work, action, target)) else {}),
        )
        for (action, who, target), addresses in groups.items()
    ]
