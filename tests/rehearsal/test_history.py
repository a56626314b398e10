"""Loads and next hops as history has them."""

from __future__ import annotations

import math
import random
from collections.abc import Iterator
from pathlib import Path

import pytest

from copper_kite.errors import InputError, RehearsalFailed
from copper_kite.rehearsal.fit import fit_load
from copper_kite.rehearsal.load_of import basis_of
from copper_kite.rehearsal.past import Past, read_past
from copper_kite.rehearsal.scenario import scenario_of
from copper_kite.store import (
    AddMessage,
    Attempt,
    AttemptFacts,
    IdMaker,
    Message,
    Recipient,
    RecipientResult,
    RecordAttempt,
    SessionFacts,
    SetState,
    StageTook,
    Transaction,
    open_store,
)
from copper_kite.words import State
from tests.configuration import store_of
from tests.rehearsal.worlds import configured

HOUR, DAY = 3600.0, 86400.0
NOW = 1_800_000_000.0 - 1_800_000_000.0 % HOUR


def _submissions(days: int, mean: float, spread: float, seed: int = 1) -> Iterator[tuple[float, str]]:
    """Times and senders: `ticketing` with so many an hour by day (variance m + spread * m²), and one odd day."""
    dice = random.Random(seed)
    for hour in range(days * 24):
        at = NOW - days * DAY + hour * HOUR
        busy = 1.0 if hour % 24 < 12 else 0.2
        rate = mean * busy * (dice.gammavariate(1 / spread, spread) if spread else 1.0)
        for _ in range(_poisson(dice, rate)):
            yield at + dice.random() * HOUR, "ticketing"
        if hour == 30:
            for _ in range(500):
                yield at + dice.random() * HOUR, "www-data"


def _poisson(dice: random.Random, rate: float) -> int:
    count, product = 0, dice.random()
    while product > math.exp(-rate):
        count, product = count + 1, product * dice.random()
    return count


def _write(folder: Path, days: int, mean: float, spread: float) -> None:
    store, ids = open_store(store_of(folder)), IdMaker()
    store.upgrade()
    transactions: list[Transaction] = []
    for number, (at, who) in enumerate(sorted(_submissions(days, mean, spread))):
        transactions += _message(ids, number, at, who)
    assert not any(store.write(transactions, durable=False))


def _message(ids: IdMaker, number: int, at: float, who: str) -> list[Transaction]:
    """Every fourth is put off once, every tenth is refused."""
    id = ids.next(at)
    message = Message(
        id, at, at + 5 * DAY, f"{who}@ternferries.example", 2000 + number % 7, False, False, f"<{id}@x>", "programs",
        "unix", "h", who, "ESMTP",
    )  # fmt: skip
    address = f"p{number}@passenger.example"
    recipient = Recipient(id, 1, address, next_try=at, connector="beacon", changed=at)
    steps: list[Transaction] = [[AddMessage(message, [recipient], None)]]
    outcomes = [("delayed", 451)] * (number % 4 == 0) + [("failed", 550) if number % 10 == 9 else ("relayed", 250)]
    for count, (state, code) in enumerate(outcomes, 1):
        stage = "accept" if code == 250 else "recipient"
        result = RecipientResult(address, state, stage, f"{code} x")
        facts = AttemptFacts([result], SessionFacts([StageTook("greet", 0.3, "220")], ()))
        then = at + 1 + 60.0 * (count - 1)
        attempt = Attempt(
            ids.next(then), id, then, 0.5, "beacon", "h:25", "192.0.2.1", stage, "" if code == 250 else "next hop",
            "" if code == 250 else "reply", code, "", "x", facts, None,
        )  # fmt: skip
        next_try = then + 59.0 if state == "delayed" else None
        steps.append([RecordAttempt(attempt), SetState(id, 1, State(state), count, next_try, "beacon", "x", then)])
    return steps


def test_a_model_has_the_mean_and_the_spread_of_what_came(tmp_path: Path) -> None:
    """Hours of the week, over-dispersion, and no part of what was one odd day."""
    _write(tmp_path, 28, 20.0, 0.3)
    with open_store(store_of(tmp_path)).reader() as reader:
        model, fit = fit_load(reader, read_past(open_store(store_of(tmp_path)), NOW - 3 * DAY, NOW), NOW)
    (sender,) = model.senders
    assert sender.who == "ticketing" and fit.left_out == [("www-data", 500)]
    assert model.by_day == pytest.approx(12 * 20.0 * 1.2, rel=0.1)
    assert sender.dispersion == pytest.approx(0.3, abs=0.1)
    assert fit.well and fit.hours == 28 * 24
    week = list(model.between(NOW, NOW + 7 * DAY, 5))
    assert len(week) == pytest.approx(7 * model.by_day, rel=0.2)
    assert [item.at for item in week] == sorted(item.at for item in week)
    assert {item.recipients[0] for item in week} == {"r1@passenger.example"} and 2000 <= week[0].size < 2007
    assert week == list(model.between(NOW, NOW + 7 * DAY, 5)) != list(model.between(NOW, NOW + 7 * DAY, 6))


def test_without_spread_a_model_is_poisson(tmp_path: Path) -> None:
    _write(tmp_path, 28, 20.0, 0.0)
    with open_store(store_of(tmp_path)).reader() as reader:
        model, _ = fit_load(reader, Past(0, 0), NOW)
    assert model.senders[0].dispersion < 0.05


def test_a_history_that_is_too_short_says_what_to_do(tmp_path: Path) -> None:
    _write(tmp_path, 2, 20.0, 0.0)
    with pytest.raises(RehearsalFailed, match=r"the history has 4[78] hours.*--rate 600/h"):
        basis_of(configured(), scenario_of({}), store_of(tmp_path), NOW)


def test_next_hops_answer_as_they_did(tmp_path: Path) -> None:
    """By domain, first attempts apart from later ones; with the times that they took."""
    _write(tmp_path, 4, 20.0, 0.0)
    past = read_past(open_store(store_of(tmp_path)), NOW - 4 * DAY, NOW)
    hop = past.hops["beacon"]
    first, later = hop.outcomes(first=True)["passenger.example"], hop.outcomes(first=False)["passenger.example"]
    shares = {outcome.reply.code: outcome.share for outcome in first}
    assert shares == {451: pytest.approx(0.25, abs=0.01), 550: pytest.approx(0.1, abs=0.01)}
    assert not later, "all second attempts went well"
    assert set(hop.service()) == {0.5} and hop.connects[0] == 0.3 and hop.samples > 1000


def test_a_day_is_replayed_as_it_was(tmp_path: Path) -> None:
    _write(tmp_path, 5, 20.0, 0.0)
    from datetime import datetime

    day = datetime.fromtimestamp(NOW - 2 * DAY).strftime("%Y-%m-%d")
    basis, used = basis_of(configured(), scenario_of({"replay": day}), store_of(tmp_path), NOW)
    again = list(basis.load.between(basis.since, basis.until, 1))
    begin = datetime.fromisoformat(day).timestamp()
    came = [at for at, _ in sorted(_submissions(5, 20.0, 0.0)) if begin <= at < begin + DAY]
    assert [item.at - basis.since for item in again] == pytest.approx([at - begin for at in came], abs=0.01)
    assert again[0].recipients[0].endswith("@passenger.example") and used.samples["beacon"]
    twice, _ = basis_of(configured(), scenario_of({"replay": day, "load": 2.0}), store_of(tmp_path), NOW)
    assert len(list(twice.load.between(basis.since, basis.until, 1))) == 2 * len(again)
    with pytest.raises(RehearsalFailed, match="nothing was submitted"):
        basis_of(configured(), scenario_of({"replay": "2020-01-01"}), store_of(tmp_path), NOW)
    with pytest.raises(InputError, match="is no day"):
        basis_of(configured(), scenario_of({"replay": "yesterday"}), store_of(tmp_path), NOW)
