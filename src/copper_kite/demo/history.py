"""Sixty days of Tern Island Ferries, written straight into a queue: for reports, and whatever needs a past.

Made by a seeded generator: each program has a profile by hour and weekday; two outages, a script that somebody took
over, and a partner that greylists lie in it. What is written are the operations that a server would have written.
"""

from __future__ import annotations

import math
import random
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from functools import partial
from heapq import heappop, heappush
from pathlib import Path
from typing import NamedTuple

from copper_kite.store import (
    AddMessage,
    Attempt,
    AttemptFacts,
    IdMaker,
    JournalEntry,
    Message,
    Operation,
    Recipient,
    RecipientResult,
    RecordAttempt,
    RecordRelayed,
    SessionFacts,
    SetState,
    Store,
    Transaction,
    WriteEntry,
    open_store,
)
from copper_kite.words import Cause, Event, Side, Stage, State

__all__ = ["DAYS", "write_history"]

DAYS = 60
HOUR, DAY = 3600.0, 86400.0
AT_A_TIME = 4000  # transactions that are written together
SEED = 7
LIFETIME = 5 * DAY
WAITS = (60.0, 300.0, 900.0, 1800.0, 3600.0)
OUTAGES = (("beacon", 20, 9.0, 15.2), ("harbour", 41, 2.0, 6.5))  # connector, day, from and to hour
HIJACKED = 52, 13.0, 16.0, 2400  # day, from and to hour, messages
NEXT_HOPS = {"beacon": "out.beaconpost.example:587", "harbour": "gate.harbouroffice.example:465"}


class Program(NamedTuple):
    """A sender: its most submissions an hour, how that varies with the hour and on weekends, and its domains."""

    who: str
    most: float
    hours: str  # a digit for each hour of the day: tenths of `most`
    weekend: float
    domains: tuple[str, ...]


PROGRAMS = (
    Program(
        "ticketing", 70, "100011479999888779975321", 1.4, ("passenger.example", "passenger.example", "mail.example")
    ),
    Program("tidewatch", 2, "555555555555555555555555", 1.0, ("crew.example",)),
    Program("lists", 12, "000000990000000000000000", 0.2, ("harbouroffice.example", "oldferries.example")),
    Program("rota", 6, "000000000000000099000000", 0.5, ("crew.example",)),
)


Action = Callable[[float], list[Operation]]  # what is written at an instant
Stop = tuple[Stage, Cause, int | None, str, str]  # stage, cause, code, enhanced code, text

SILENT: Stop = Stage.CONNECT, Cause.CONNECTION_TIMED_OUT, None, "", "no answer in 30 s"
GREYLISTED: Stop = Stage.RECIPIENT, Cause.REPLY, 451, "4.7.1", "not seen before; come back in a few minutes"
FULL: Stop = Stage.RECIPIENT, Cause.REPLY, 452, "4.2.2", "the mailbox is full; try again later"
GONE: Stop = Stage.RECIPIENT, Cause.REPLY, 550, "5.1.1", "no mailbox of this name here"
SPAM: Stop = Stage.ACCEPT, Cause.REPLY, 554, "5.7.1", "the content looks like spam"


@dataclass(slots=True)
class _History:
    """The state while writing. `begin` is the instant of the first day."""

    begin: float
    dice: random.Random
    ids: IdMaker
    planned: list[tuple[float, int, Action]] = field(default_factory=list)  # a heap
    number: int = 0
    over: bool = False  # what is still on its way then is relayed

    def events(self, now: float) -> Iterator[list[Operation]]:
        """All events until now, in the order of time."""
        for connector, day, since, until in OUTAGES:
            for hour, event in ((since, Event.DOWN), (until, Event.BACK)):
                self._plan(self.begin + day * DAY + hour * HOUR, partial(self._hop_entry, connector, event))
        for at, who, address in self._submissions():
            yield from self._due(at)
            yield self._submit(at, who, address)
        yield from self._due(now)
        self.over = True
        yield from (action(now) for _, _, action in sorted(self.planned))

    def _plan(self, at: float, action: Action) -> None:
        self.number += 1  # among those of one instant, the first planned comes first
        heappush(self.planned, (at, self.number, action))

    def _due(self, until: float) -> Iterator[list[Operation]]:
        while self.planned and self.planned[0][0] <= until:
            at, _, action = heappop(self.planned)
            yield action(at)

    # --- who submits what ---------------------------------------------------------------------------------------------

    def _submissions(self) -> Iterator[tuple[float, str, str]]:
        """(time, sender, recipient) in the order of time; the number in each hour has a Poisson distribution."""
        for hour in range(DAYS * 24):
            at = self.begin + hour * HOUR
            when = datetime.fromtimestamp(at)
            batch: list[tuple[float, str, str]] = []
            for program in PROGRAMS:
                rate = program.most * int(program.hours[when.hour]) / 10
                rate *= program.weekend if when.weekday() >= 5 else 1.0
                batch += [self._letter(at, program) for _ in range(self._poisson(rate))]
            day, since, until, messages = HIJACKED
            if hour // 24 == day and since <= hour % 24 < until:
                many = int(messages / (until - since))
                batch += [(at + self.dice.random() * HOUR, "www-data", self._stranger()) for _ in range(many)]
            yield from sorted(batch)

    def _poisson(self, rate: float) -> int:
        """Knuth's method where that is quick, else the normal approximation."""
        if rate > 30:
            return max(round(self.dice.gauss(rate, math.sqrt(rate))), 0)
        count, product, least = -1, 1.0, math.exp(-rate)
        while product > least:
            product *= self.dice.random()
            count += 1
        return max(count, 0)

    def _letter(self, at: float, program: Program) -> tuple[float, str, str]:
        domain = self.dice.choice(program.domains)
        return at + self.dice.random() * HOUR, program.who, f"p{self.dice.randrange(400)}@{domain}"

    def _stranger(self) -> str:
        return f"x{self.dice.randrange(10**6)}@site{self.dice.randrange(60)}.example"

    # --- what becomes of one message ----------------------------------------------------------------------------------

    def _submit(self, at: float, who: str, address: str) -> list[Operation]:
        id = self.ids.next(at)
        size = int(self.dice.lognormvariate(7.5, 1.0)) + 400
        connector = "harbour" if address.endswith("@harbouroffice.example") else "beacon"
        message = Message(
            id, at, at + LIFETIME, f"{who}@ternferries.example", size, False, False, f"<{id}@ternferries.example>",
            "programs", "unix", "quay1", who, "ESMTP",
        )  # fmt: skip
        recipient = Recipient(id, 1, address, next_try=at, connector=connector, changed=at)
        self._plan(at + self.dice.expovariate(1 / 1.2), partial(self._try, message, recipient, 1))
        return [AddMessage(message, [recipient], None)]

    def _try(self, message: Message, recipient: Recipient, number: int, at: float) -> list[Operation]:
        """One attempt; or, while its next hop is down, mostly none: it waits with its lane."""
        again = partial(self._try, message, recipient)
        back = self._down_until(recipient.connector, at)
        if back is not None and self.dice.random() < 0.97:
            self._plan(back + self.dice.expovariate(1 / 90), partial(again, number))
            return []
        stop, wait = self._stop(message, recipient, number, back, at)
        if stop is None:
            return [self._relayed(message, recipient, at, number)]
        if wait is not None:
            self._plan(at + wait, partial(again, number + 1))
        state = State.FAILED if wait is None else State.DELAYED
        attempt = self._attempt(message, recipient, at, stop, state)
        said, due = attempt.facts.results[0].reply, None if wait is None else at + wait
        ended = SetState(message.id, 1, state, number, due, recipient.connector, said, at, attempt.next_hop)
        return [RecordAttempt(attempt), ended]

    def _stop(
        self, message: Message, recipient: Recipient, number: int, back: float | None, at: float
    ) -> tuple[Stop | None, float | None]:
        """The failure of an attempt, and the wait for the next; without a wait, it is permanent."""
        hijacked, luck = message.user == "www-data", self.dice.random()
        if self.over:
            return None, None
        if back is not None:
            return SILENT, back - at + self.dice.expovariate(1 / 60)
        if recipient.connector == "harbour" and number == 1 and luck < 0.3:
            return GREYLISTED, 300 * (1 + self.dice.random())
        if number < len(WAITS) and luck < 0.004:
            return FULL, WAITS[number - 1]
        if luck < (0.45 if hijacked else 0.006):
            return SPAM if hijacked and luck < 0.25 else GONE, None
        return None, None

    def _down_until(self, connector: str, at: float) -> float | None:
        for name, day, since, until in () if self.over else OUTAGES:
            begin = self.begin + day * DAY
            if name == connector and begin + since * HOUR <= at < begin + until * HOUR:
                return begin + until * HOUR
        return None

    def _relayed(self, message: Message, recipient: Recipient, at: float, number: int) -> Operation:
        connector = recipient.connector
        return RecordRelayed(
            self.ids.next(at), message.id, at, 0.2, connector, NEXT_HOPS[connector], "192.0.2.10", 250, "2.0.0", "kept",
            [(1, number, recipient.address, "250 2.0.0 kept")], SessionFacts(), at + 0.2, True, message.arrived,
            message.size, message.user,
        )  # fmt: skip

    def _attempt(self, message: Message, recipient: Recipient, at: float, stop: Stop, state: State) -> Attempt:
        stage, cause, code, enhanced, text = stop
        said = f"{code} {enhanced} {text}" if code else text
        result = RecipientResult(recipient.address, state.value, stage.value, said)
        side = Side.NEXT_HOP if code else Side.PATH
        return Attempt(
            self.ids.next(at), message.id, at, 0.2, recipient.connector, NEXT_HOPS[recipient.connector], "192.0.2.10",
            stage.value, side.value, cause.value, code, enhanced, text, AttemptFacts([result]), None,
        )  # fmt: skip

    def _hop_entry(self, connector: str, event: Event, at: float) -> list[Operation]:
        facts: dict[str, object] = {"connector": connector, "next_hop": NEXT_HOPS[connector]}
        if event is Event.DOWN:
            facts |= {"stage": SILENT[0].value, "cause": SILENT[1].value, "text": SILENT[4]}
        return [WriteEntry(JournalEntry(at=at, event=event, facts=facts))]


def write_history(folder: Path, now: float) -> int:
    """Write the days up to `now` into the queue of a new data folder; how many messages those were."""
    begin = now - now % HOUR - DAYS * DAY
    history = _History(begin, random.Random(SEED), IdMaker(0))
    store, batch, messages = open_store(folder), list[Transaction](), 0
    for operations in history.events(now):
        if operations:
            messages += isinstance(operations[0], AddMessage)
            batch.append(operations)
        if len(batch) >= AT_A_TIME:
            _write(store, batch)
            batch = []
    _write(store, batch)
    return messages


def _write(store: Store, batch: Sequence[Transaction]) -> None:
    for fault in store.write(batch, durable=False):
        if fault is not None:
            raise fault
