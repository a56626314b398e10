"""The values that the store keeps and gives. Instants are seconds since 1970 (UTC), sizes are octets."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, NamedTuple

from copper_kite.store.facts import AttemptFacts
from copper_kite.words import Action, Event, State

__all__ = [
    "DELAY_STEPS",
    "AdminRequest",
    "Attempt",
    "CarrierThen",
    "ConnectorState",
    "CountFilter",
    "Due",
    "Happened",
    "HourlyCount",
    "JournalEntry",
    "LaneStop",
    "Message",
    "QueueGroup",
    "QueueRow",
    "QueueSummary",
    "Recipient",
    "Record",
    "Selection",
    "ServerState",
    "Tally",
    "Waiting",
    "delay_of_step",
    "step_of_delay",
]


class Message(NamedTuple):
    """A submission: its envelope without the recipients, and its origin. A row of its table."""

    id: int
    arrived: float
    expires: float
    reverse_path: str
    size: int
    eight_bit: bool
    utf8: bool
    message_id: str
    listener: str
    client: str  # address, or "unix"
    hello: str
    user: str  # the local user behind a Unix socket, or ""
    protocol: str  # RFC 3848 word
    esmtp_parameters: str = ""  # of MAIL, as written: RET, ENVID, REQUIRETLS, MT-PRIORITY …
    subject: str = ""  # as it is written in the header
    priority: int = 0  # -9 to 9 (RFC 6710)
    form: int = 0  # what of its content is to be mended on its way out, as flags (`smtp.content.Form`)
    tls: str = ""  # version and cipher of the session that it came by; empty without TLS


class Recipient(NamedTuple):
    """A recipient of a message, with a state of its own. `next_try` is None unless it waits for an attempt.

    `connector` is the one that carries it: as it was chosen, or as the last attempt had it.
    """

    message: int
    number: int
    address: str
    state: State = State.QUEUED
    attempts: int = 0
    next_try: float | None = None
    connector: str = ""
    reply: str = ""
    changed: float = 0.0
    esmtp_parameters: str = ""  # of RCPT, as written: NOTIFY, ORCPT
    next_hop: str = ""  # of the last attempt
    via: str = ""  # the connector that an administrator chose for it


class Attempt(NamedTuple):
    """An attempt to relay one message to one next hop."""

    id: int
    message: int
    at: float
    seconds: float
    connector: str
    next_hop: str
    address: str
    stage: str
    side: str
    cause: str
    code: int | None
    enhanced: str
    text: str
    facts: AttemptFacts
    dialogue: Sequence[Sequence[Any]] | None  # time, mark, text of each line; None where it was not kept


class LaneStop(NamedTuple):
    """The reason that a lane does not move, for all its messages: since when, and until when (infinite: until something
    changes); `at` is when that was last confirmed.

    A lane is a connector, and with MX a domain of it; with MX and no domain, all of them. `text` says it to people;
    `stage` to `address` are as in an attempt. `server` names the one whose lane it is, to people, where several share
    the queue; it is not kept.
    """

    connector: str
    domain: str
    since: float
    until: float
    at: float
    stage: str
    side: str
    cause: str
    code: int | None
    enhanced: str
    text: str
    next_hop: str = ""
    address: str = ""
    server: str = ""


class Waiting(NamedTuple):
    """A recipient that is due, with what decides its lane and its order there.

    `who` submitted it: an account, a local user or an address.
    """

    message: int
    number: int
    address: str
    connector: str
    via: str
    next_try: float
    reverse_path: str
    arrived: float
    expires: float
    who: str
    priority: int


class AdminRequest(NamedTuple):
    """A request of `who` for one recipient, since `at`; still pending. `target` is that of a redirect.

    What is wanted of a connector, the `target`, has no message and no recipient: 0.
    """

    number: int
    at: float
    who: str
    action: Action
    message: int
    recipient: int
    target: str = ""


class Selection(NamedTuple):
    """A selection of recipients; what is empty or None does not filter.

    `to` and `sender` are addresses, domains, or `*.domain`, and so is `anyone`, who is one or the other; `reason`
    stands in the last reply; `older` (or as old) and `since` are instants, `larger` octets; `who` is an account, a
    local user or an address. `next_hop` and `subject` are parts of them; `text` stands in any of what is kept in words.
    """

    ids: Sequence[int] = ()
    states: Sequence[State] = ()
    to: str = ""
    sender: str = ""
    connector: str = ""
    reason: str = ""
    who: str = ""
    older: float | None = None
    larger: int | None = None
    since: float | None = None
    message_id: str = ""
    anyone: str = ""
    next_hop: str = ""
    subject: str = ""
    text: str = ""


class QueueGroup(NamedTuple):
    """A group of waiting recipients: its name, the numbers, the oldest arrival, and the next try."""

    name: str
    recipients: int
    messages: int
    oldest: float
    next_try: float | None


@dataclass(slots=True, kw_only=True)
class JournalEntry:
    """An entry of the journal. `message` is None for what concerns the server itself; `server` is the slot of the one
    that wrote it, where several share the queue."""

    at: float
    event: Event
    message: int | None = None
    facts: dict[str, Any] = field(default_factory=dict)
    server: int = 0


class CarrierThen(NamedTuple):
    """The part of a connector that decided which recipients it carried, at a time (see `routing.choose.Carrier`)."""

    name: str
    enabled: bool
    preference: int
    recipients: Sequence[str]
    senders: Sequence[str]


class Happened(NamedTuple):
    """An event, and the message that it concerns, where there is one and it is still known; where several servers share
    the queue, the name of the one that did it."""

    item: Message | Attempt | JournalEntry
    message: Message | None
    server: str = ""


@dataclass(slots=True)
class Due:
    """A message with the recipients that wait for an attempt, and its content, where that was read with it."""

    message: Message
    recipients: list[Recipient]
    content: bytes | None = None


@dataclass(slots=True)
class QueueRow:
    """A line of the queue: a message and one group of its recipients in the same state."""

    message: Message
    recipient: Recipient


@dataclass(slots=True)
class Record:
    """Everything the store has of one message; the names of the servers that share the queue, by slot."""

    message: Message
    recipients: list[Recipient]
    attempts: list[Attempt]
    journal: list[JournalEntry]
    # Since when which connectors carried whom: as it was when the message came, and each change since.
    routes: list[tuple[float, list[CarrierThen]]] = field(default_factory=list)
    servers: Mapping[int, str] = field(default_factory=dict)


class ServerState(NamedTuple):
    """A server among those that share the queue: whether its lease holds, since when it runs (seconds since 1970), for
    how long (seconds) its lease holds yet, and how many recipients wait for it, as it last said."""

    slot: int
    name: str
    alive: bool
    since: float
    lease_left: float
    waiting: int


@dataclass(slots=True)
class ConnectorState:
    """When a connector last relayed and last failed."""

    name: str
    last_good: float | None
    last_bad: float | None
    last_bad_text: str


DELAY_STEPS = 4  # of a delay, for each doubling


def step_of_delay(seconds: float) -> float:
    """The position of a delay among the steps: whole numbers are where they begin."""
    return DELAY_STEPS * math.log2(1.0 + max(seconds, 0.0))


def delay_of_step(step: float) -> float:
    """The seconds at which a step begins, as `step_of_delay` has it."""
    return float(2 ** (step / DELAY_STEPS) - 1)


class HourlyCount(NamedTuple):
    """The number of recipients, and octets of their messages, with an outcome within an hour (since 1970).

    `outcome` is "accepted" (no connector yet), "relayed", "delayed" (each attempt that put one off), "failed" or
    "refused" (by a listener). `who` submitted it: a local user, an account or an address; `domain` is the recipient's;
    `reason` has the codes of the reply and the stage, or the cause. The outcome "delay" counts what was relayed once
    more, by `delay`, the step of the time that it took: from 2 ** (delay / DELAY_STEPS) - 1 seconds up to the next; it
    has no `who` and `domain`. Elsewhere `delay` is -1.
    """

    hour: int
    outcome: str
    connector: str
    next_hop: str
    who: str
    domain: str
    reason: str
    delay: int
    recipients: int
    octets: int


class CountFilter(NamedTuple):
    """A filter for hourly counts: by connector, sender, recipients' domain (`*.domain` for those below it); empty for
    all."""

    connector: str = ""
    who: str = ""
    domain: str = ""


class Tally(NamedTuple):
    """The number of recipients with an outcome within a minute (since 1970).

    `outcome` is "accepted" or "refused" (of what clients submit; there is no connector yet), "relayed", "failed", or
    "delayed", which counts each attempt that puts a recipient off.
    """

    minute: int
    connector: str
    outcome: str
    recipients: int


@dataclass(slots=True)
class QueueSummary:
    """The queue in numbers: recipients by state, messages, octets, and the arrival of the oldest."""

    by_state: dict[State, int] = field(default_factory=dict)
    messages: int = 0
    octets: int = 0
    oldest: float | None = None
