"""The smallest value that meets a goal under a scenario, searched by rehearsals on the same random numbers."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from typing import NamedTuple

from copper_kite.errors import InputError
from copper_kite.rehearsal.changes import unknown_name
from copper_kite.rehearsal.figures import Bands
from copper_kite.rehearsal.many import run_many
from copper_kite.rehearsal.scenario import Scenario, scenario_of
from copper_kite.rehearsal.world import Basis
from copper_kite.settings import Connector, Loaded, parse_duration, shown_value

__all__ = ["Found", "Goal", "Trial", "find_value", "parse_goal"]

MOST_SESSIONS = 256
MOST_ALLOWANCE = 100_000_000
DAYS = {"hour": 1 / 24, "day": 1.0, "month": 30.0}  # of the periods of allowances
LADDER = (60.0, 120.0, 300.0, 600.0, 900.0, 1800.0, 3600.0, 7200.0, 14400.0, 21600.0)  # for the longest wait
_GOAL = re.compile(r"(.+?)\s*(<=|<)\s*(.+)")
_FIGURES = {
    "p50 delay": "delay_p50",
    "median delay": "delay_p50",
    "p95 delay": "delay_p95",
    "p99 delay": "delay_p99",
    "max delay": "delay_max",
    "largest queue": "largest_queue",
    "empty after": "empty_after",
    "expired": "expired",
    "notices": "notices",
}


class Goal(NamedTuple):
    """A figure that is to stay below a limit (in seconds, or a number)."""

    figure: str
    limit: float
    text: str
    strict: bool

    def met(self, bands: Bands) -> bool:
        """Whether it does, in the median of the runs and, for what nobody wants any of, in all of them."""
        band = bands.figures[self.figure]
        if band is None:
            return False
        value = band.high if self.figure in ("expired", "notices") else band.median
        return value < self.limit if self.strict else value <= self.limit


class Trial(NamedTuple):
    """A value that was rehearsed, what the goal's figure came to, and whether that meets the goal."""

    value: str
    figure: float | None
    met: bool


class Found(NamedTuple):
    """The smallest value that meets the goal (None: none does), all trials, and the command that sets it."""

    key: str
    connector: str
    goal: Goal
    value: str | None
    trials: Sequence[Trial]
    command: str


def parse_goal(text: str) -> Goal:
    """`p95 delay < 30m`, `largest queue < 1000`, `expired < 1`. Raises InputError."""
    match = _GOAL.fullmatch(text.strip())
    figure = _FIGURES.get(" ".join(match[1].lower().split())) if match is not None else None
    if match is None or figure is None:
        raise InputError(
            f"{text!r}: write a goal as 'p95 delay < 30m'; the figures are {', '.join(_FIGURES)}", usage=True
        )
    timed = figure.startswith("delay") or figure == "empty_after"
    try:
        limit = parse_duration(match[3]) if timed else float(match[3])
    except ValueError as error:
        raise InputError(f"{text!r}: {error}", usage=True) from error
    return Goal(figure, limit, text.strip(), match[2] == "<")


def find_value(
    basis: Basis,
    scenario: Scenario,
    what: str,
    goal: Goal,
    runs: int,
    seed: int = 1,
    progress: Callable[[str], object] = lambda value: None,
) -> Found:
    """Search `sessions`, `waits` or `allowance`, of a connector where it is named as in `beacon.sessions`.

    Raises InputError where there is nothing to search, RehearsalFailed.
    """
    name, _, key = what.rpartition(".")
    if key not in ("sessions", "waits", "allowance"):
        raise InputError(f"{what!r}: --find takes sessions, waits or allowance, or beacon.sessions", usage=True)
    connector = "" if key == "waits" else _connector(basis, scenario, name)
    search = _Search(basis, scenario, goal, runs, seed, progress)
    find = {"sessions": _find_sessions, "waits": _find_waits, "allowance": _find_allowance}[key]
    return find(search, connector)


class _Search:
    """Trials of one kind; each value is rehearsed once."""

    def __init__(
        self,
        basis: Basis,
        scenario: Scenario,
        goal: Goal,
        runs: int,
        seed: int,
        progress: Callable[[str], object],
    ) -> None:
        self.basis = basis
        self.scenario = scenario
        self.goal = goal
        self._runs = runs
        self._seed = seed
        self._progress = progress
        self.trials: list[Trial] = []

    def meets(self, value: str, changes: dict[str, list[str]]) -> bool:
        """Whether a value meets the goal."""
        self._progress(value)
        rehearsal = self.basis.prepared(scenario_of(changes, self.scenario))
        bands = run_many(rehearsal, self._runs, self._seed)
        band = bands.figures[self.goal.figure]
        trial = Trial(value, None if band is None else band.median, self.goal.met(bands))
        self.trials.append(trial)
        return trial.met

    def smallest(
        self, first: int, most: int, changes: Callable[[int], dict[str, list[str]]], unit: str = ""
    ) -> int | None:
        """The smallest number that meets the goal: from a first guess on doubled until one does, then halved between;
        None where none does. More of it is taken to be no worse.
        """
        too_small, value = 0, first
        while not self.meets(f"{value}{unit}", changes(value)):
            if value >= most or (unit and self._hopeless()):
                return None
            too_small, value = value, min(2 * value, most)
        best = value
        while best - too_small > max(1, best // 100 if unit else 1):
            middle = (too_small + best) // 2
            if self.meets(f"{middle}{unit}", changes(middle)):
                best = middle
            else:
                too_small = middle
        return best

    def _hopeless(self) -> bool:
        """Whether three values in a row made no difference: something else limits it."""
        last = [trial.figure for trial in self.trials[-3:]]
        return len(last) == 3 and None not in last and len({round(value or 0.0, 6) for value in last}) == 1

    def found(self, key: str, connector: str, value: str | None, command: str) -> Found:
        """The result, once all trials are made."""
        return Found(key, connector, self.goal, value, self.trials, command if value is not None else "")


def _find_sessions(search: _Search, connector: str) -> Found:
    best = search.smallest(1, MOST_SESSIONS, lambda count: {"set": [f"connector.{connector}.sessions={count}"]})
    value = None if best is None else str(best)
    return search.found("sessions", connector, value, f"kite connector set {connector} sessions={value}")


def _find_allowance(search: _Search, connector: str) -> Found:
    basis = search.basis
    period = _period(basis.prepared(search.scenario).loaded, connector)
    guess = max(round(basis.load.by_day * DAYS[period] / 2), 1)
    best = search.smallest(
        guess, MOST_ALLOWANCE, lambda count: {"allowance": [f"{connector}={count}/{period}"]}, f"/{period}"
    )
    value = None if best is None else f"{best}/{period}"
    return search.found("allowance", connector, value, f"kite connector set {connector} allowance={value}")


def _find_waits(search: _Search, connector: str) -> Found:
    """The longest last wait that meets the goal: it bothers a next hop that is down least often."""
    waits = search.basis.prepared(search.scenario).loaded.settings.retry.waits
    best: str | None = None
    low, high = 0, len(LADDER) - 1
    while low <= high:
        middle = (low + high) // 2
        value = ",".join(shown_value(float(wait)) for wait in _up_to(waits, LADDER[middle]))
        if search.meets(value, {"set": [f"retry.waits={value}"]}):
            best, low = value, middle + 1
        else:
            high = middle - 1
    return search.found("waits", connector, best, f"kite config set retry waits={best}")


def _up_to(waits: Sequence[float], longest: float) -> list[float]:
    """The waits that are shorter, and then that one."""
    return [*(wait for wait in waits if wait < longest), longest]


def _connector(basis: Basis, scenario: Scenario, name: str) -> str:
    """The connector meant: the one named, the only one, or the only one that the scenario names."""
    connectors: list[Connector] = [item for item in basis.loaded.settings.connector if item.enabled]
    names = [connector.name for connector in connectors]
    if name:
        if name not in names:
            raise unknown_name(name, names, "connector")
        return name
    meant = [item for item in names if item in scenario.named] or names
    if len(meant) != 1:
        raise InputError(f"say of which connector, as in --find {meant[0]}.sessions", usage=True)
    return meant[0]


def _period(loaded: Loaded, connector: str) -> str:
    known = next(item for item in loaded.settings.connector if item.name == connector)
    tightest = min(known.allowance, key=lambda item: item.count, default=None)
    return tightest.period if tightest is not None else "day"
