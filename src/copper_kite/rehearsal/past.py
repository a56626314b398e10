"""The past as the journal has it: submissions, and how next hops answered."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from copper_kite.rehearsal.arrivals import Arrival
from copper_kite.rehearsal.next_hops import Outcome, domain_of
from copper_kite.smtp import Reply, split_reply
from copper_kite.store import Attempt, Message, Reader, Store
from copper_kite.words import Cause, Stage, State

__all__ = ["HopPast", "Past", "days_to_read", "read_past"]

MOST_RECIPIENTS = 200_000  # of which attempts are read, from the latest backwards
MOST_DAYS = 60
LEAST_SAMPLES = 20  # of a domain, to have a share of its own
QUANTILES = 200  # that stand for how long messages take
HOUR = 3600.0


@dataclass(slots=True)
class HopPast:
    """The attempts of a connector: the seconds of each, and the replies (None: relayed) by the recipient's domain and
    by whether the attempt was the first. `unreachable` counts recipients of attempts that reached no next hop."""

    seconds: list[float] = field(default_factory=list)
    connects: list[float] = field(default_factory=list)
    results: dict[tuple[str, bool], list[tuple[Stage, Reply] | None]] = field(default_factory=lambda: defaultdict(list))
    unreachable: int = 0

    @property
    def samples(self) -> int:
        """How many attempts on recipients it comes from."""
        return sum(map(len, self.results.values()))

    def service(self) -> Sequence[float]:
        """How long a message takes: values that are alike likely, sorted."""
        values = sorted(self.seconds)
        if len(values) <= QUANTILES:
            return values
        return [values[int((number + 0.5) * len(values) / QUANTILES)] for number in range(QUANTILES)]

    def outcomes(self, *, first: bool) -> Mapping[str, Sequence[Outcome]]:
        """The shares of refusals by domain, for first or for later attempts."""
        shares: dict[str, Sequence[Outcome]] = {}
        for (domain, was_first), results in self.results.items():
            if was_first is first and len(results) >= LEAST_SAMPLES:
                counts: dict[tuple[int, str, Stage], tuple[int, Reply]] = {}
                for result in filter(None, results):
                    stage, reply = result
                    key = reply.code, reply.enhanced, stage
                    counts[key] = counts.get(key, (0, reply))[0] + 1, reply
                shares[domain] = [
                    Outcome(count / len(results), reply, key[2]) for key, (count, reply) in counts.items()
                ]
        return shares


@dataclass(slots=True)
class Past:
    """A span of the journal: its messages with their recipients, and what became of them by connector."""

    since: float
    until: float
    messages: dict[int, tuple[Message, dict[str, None]]] = field(default_factory=dict)
    hops: dict[str, HopPast] = field(default_factory=lambda: defaultdict(HopPast))

    def arrivals(self) -> list[Arrival]:
        """The messages as they were submitted, those of this server itself left out."""
        return [
            Arrival(
                message.arrived, message.user or message.client, message.reverse_path, tuple(addresses), message.size,
                message.priority,
            )
            for message, addresses in self.messages.values()
            if addresses and message.listener
        ]  # fmt: skip


def days_to_read(reader: Reader, now: float) -> int:
    """How many days back attempts are read, so that there are enough and not too many."""
    hour, recipients = int(now // HOUR), 0
    for days in range(1, MOST_DAYS + 1):
        rows = reader.summed_counts(hour - 24 * days, hour - 24 * (days - 1), ("outcome",), None, "accepted")
        recipients += sum(row[1] for row in rows)
        if recipients >= MOST_RECIPIENTS:
            return days
    return MOST_DAYS


def read_past(store: Store, since: float, until: float) -> Past:
    """Read a span of the journal. Raises StoreError."""
    past, history = Past(since, until), store.history()
    tried: set[tuple[int, str]] = set()
    try:
        for happened in history.between(since, until):
            if isinstance(happened.item, Message):
                past.messages[happened.item.id] = happened.item, {}
            elif isinstance(happened.item, Attempt):
                _take(past, happened.item, tried)
    finally:
        history.close()
    return past


def _take(past: Past, attempt: Attempt, tried: set[tuple[int, str]]) -> None:
    known = past.messages.get(attempt.message)
    hop = past.hops[attempt.connector]
    for result in attempt.facts.results:
        if known is not None:
            known[1][result.address] = None
    if attempt.cause not in ("", Cause.REPLY.value):
        hop.unreachable += len(attempt.facts.results)
        return
    hop.seconds.append(attempt.seconds)
    hop.connects += [sum(stage.seconds for stage in attempt.facts.session.stages)] * bool(attempt.facts.session.stages)
    for result in attempt.facts.results:
        key = attempt.message, result.address
        first = key not in tried
        tried.add(key)
        reply = None if result.state == State.RELAYED.value else _reply(result.reply)
        outcome = None if reply is None else (Stage(result.stage), reply)
        hop.results[domain_of(result.address), first].append(outcome)


def _reply(text: str) -> Reply | None:
    """The reply that is kept of a recipient; None if it has none."""
    codes, said = split_reply(text)
    code, _, enhanced = codes.partition(" ")
    return Reply(int(code), enhanced, said) if code else None
