"""Days of outage while nobody waits: three smart hosts, two down, an allowance that runs out, 5,000 messages."""

from __future__ import annotations

import asyncio
import itertools
from collections import Counter
from pathlib import Path
from typing import Any

from copper_kite.net.authority import CertificateFiles
from copper_kite.relay.service import Service
from copper_kite.session.standin import Caught, Rule, StandIn, StandInPlan
from copper_kite.settings.load import load_configuration
from copper_kite.settings.server_tls import server_context
from copper_kite.smtp.replies import Reply
from copper_kite.smtp.sasl import Secret
from copper_kite.store import open_store
from copper_kite.words import Stage, State
from tests.configuration import store_of
from tests.looping import happens
from tests.relay.test_relay import letter, talk
from tests.support import PASSWORD, PatientClock, converse, write_site

MESSAGES, A_DAY, DAY = 5000, 2000, 86400.0
DOWN = Rule("*", Reply(421, "4.3.2", "out of order"), stage=Stage.GREET)
RULES = (
    Rule("gone@*", Reply(550, "5.1.1", "no mailbox")),
    Rule("late@*", Reply(450, "4.2.1", "later"), times=3),
)


class Hosts:
    """Three stand-ins in a row: two that greet with 421, and one that works. `met` says in which order they were."""

    def __init__(self, folder: Path, authority: CertificateFiles, clock: PatientClock) -> None:
        self.met: list[tuple[float, str]] = []
        self.caught: list[tuple[float, Caught]] = []
        self.stand_ins = []
        for name, rules in (("first", (DOWN,)), ("second", (DOWN,)), ("third", RULES)):
            plan = StandInPlan(
                name=name, folder=None, context=server_context(str(authority.certificate), str(authority.key)),
                logins={"tern": Secret(PASSWORD)}, rules=rules,
            )  # fmt: skip
            stand_in = StandIn(plan, lambda item: self.caught.append((clock.now(), item)), clock)
            decide = stand_in.judge.decide

            def noted(stage: Stage, *facts: Any, name: str = name, decide=decide):  # type: ignore[no-untyped-def]
                if stage is Stage.GREET:
                    self.met.append((clock.now(), name))
                return decide(stage, *facts)

            stand_in.judge.decide = noted  # type: ignore[method-assign]
            self.stand_ins.append(stand_in)


def recipient(number: int) -> str:
    return f"{'gone' if number % 100 == 0 else 'late' if number % 500 == 50 else 'ana'}@n{number}.example"


async def test_days_of_outage(folder: Path, authority: CertificateFiles) -> None:
    """Q-11, Q-13, C-18: every message ends right, the states add up, and attempts come in the order that is documented.

    The first host in the file first; one that is down is left alone, each time for longer, and never asked once a
    message. What exceeds the allowance waits for the next day, oldest first.
    """
    (folder / "ca.pem").write_bytes(authority.authority.read_bytes())
    clock = PatientClock()
    hosts = Hosts(folder, authority, clock)

    ports = [await stand_in.start("127.0.0.1", 0) for stand_in in hosts.stand_ins]
    extra = f'allowance = "{A_DAY}/day"\n[retry]\nwaits = ["10m", "1h", "4h"]\nnotice_after = "4d"\n'
    config = write_site(folder, ports[0], extra=extra)
    named = ", ".join(f'"localhost:{port}"' for port in ports)
    config.write_text(config.read_text().replace(f'["localhost:{ports[0]}"]', f"[{named}]"))
    service = await Service.start(load_configuration(config), clock)
    endpoints = service.endpoints
    heard = []
    for first in range(0, MESSAGES, MESSAGES // 5):  # in order, so that it is known which are the oldest
        portion = range(first, first + MESSAGES // 5)
        sessions = [talk(*(letter(recipient(n)) for n in portion[start::20])) for start in range(20)]
        heard += await asyncio.gather(*(converse(endpoints[0].port, session) for session in sessions))
    assert sum(reply.count(b" kept as ") for reply in heard) == MESSAGES
    with open_store(store_of(folder / "queue")).reader() as reader:

        def is_over() -> bool:
            """Whether all has ended; where nothing is left to do now, it is soon when there is."""
            if State.QUEUED not in reader.totals():
                times = [row.recipient.next_try or 0.0 for row in reader.queue()]
                clock.time = max(clock.time, min(times, default=0.0))
            return not reader.summary().messages

        await happens(is_over)
    await service.stop()
    for stand_in in hosts.stand_ins:
        await stand_in.stop()
    with open_store(store_of(folder / "queue")).reader() as reader:
        rows = reader.queue(tuple(State))
        totals = reader.totals()
    gone = MESSAGES // 100
    assert totals == {State.RELAYED: MESSAGES, State.FAILED: gone}, "each failed one was told of by a notice"
    ours = [row for row in rows if row.message.reverse_path]
    assert len(ours) == MESSAGES and len(rows) == MESSAGES + gone
    for row in ours:
        assert (row.recipient.state is State.FAILED) == row.recipient.address.startswith("gone")
    copies = Counter(item.recipients[0] for _, item in hosts.caught)
    assert all(copies[row.recipient.address] == 1 for row in ours if row.recipient.state is State.RELAYED)
    the_allowance_is_kept_and_the_oldest_go_first(ours)
    the_hosts_are_met_in_order(hosts.met)


def the_allowance_is_kept_and_the_oldest_go_first(ours: list) -> None:  # type: ignore[type-arg]
    days: dict[int, list[int]] = {}
    for row in ours:
        if row.recipient.address.startswith("ana"):
            days.setdefault(int(row.recipient.changed // DAY), []).append(row.message.id)
    assert len(days) == 3 and all(len(ids) <= A_DAY for ids in days.values())
    (_, first), (_, second), (_, third) = sorted(days.items())
    assert max(first) < min(second) and max(second) < min(third)


def the_hosts_are_met_in_order(met: list[tuple[float, str]]) -> None:
    assert [name for _, name in met[:3]] == ["first", "second", "third"]
    for name in ("first", "second"):
        times = [at for at, who in met if who == name]
        waits = [later - earlier for earlier, later in itertools.pairwise(times)]
        assert 1 < len(times) < 40, "asked again, but not for each message"
        assert (
            waits[0] >= 600 and all(wait >= 3600 for wait in waits[1:]) and all(wait >= 4 * 3600 for wait in waits[2:])
        )
