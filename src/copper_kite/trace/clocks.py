"""Clock errors of servers and the real delays of a message, estimated from the dates that they wrote.

A message moves forward in time. Where dates run backwards, some clock is wrong: the fewest servers that explain it are
sought. There may be several such explanations; each bounds what the others' dates leave open, a wait is known as far
as all of them agree, and the likeliest is the one with the least error and delay in all.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass
from itertools import combinations
from typing import NamedTuple

__all__ = ["SKEW", "Estimate", "Offset", "Wait", "estimate"]

SKEW = 2.0  # seconds back in time: less is how clocks are
MOST_WRONG = 3  # servers at once; beyond, the hops that agree best are taken for right
MOST_SERVERS = 30  # among whom the fewest are sought


class Wait(NamedTuple):
    """Seconds, as is likely, and between which bounds."""

    likely: float
    low: float
    high: float

    @property
    def certain(self) -> bool:
        """Whether it is longer than what is not known of it."""
        return self.high - self.low <= SKEW or self.high - self.low < self.likely


class Offset(NamedTuple):
    """The error of a server's clock in seconds; below zero, it is slow."""

    server: str
    seconds: float


@dataclass(frozen=True, slots=True)
class Estimate:
    """`waits` are those between each date and the next, `total` is all of the way; `wrong` are the clocks that are
    likely wrong, `others` those that may be instead."""

    waits: Sequence[Wait]
    total: Wait
    wrong: Sequence[Offset] = ()
    others: Sequence[Offset] = ()


class _Told(NamedTuple):
    """One explanation: the interval of instants at each hop, and the clocks that it takes for wrong."""

    times: Sequence[tuple[float, float]]
    wrong: Sequence[Offset]

    @property
    def cost(self) -> float:
        begin, end = self.times[0], self.times[-1]
        return sum(abs(offset.seconds) for offset in self.wrong) + sum(end) / 2 - sum(begin) / 2


def estimate(stamps: Sequence[tuple[str, float]]) -> Estimate:
    """The estimates from `stamps`, (server, date in seconds since 1970) in the order of the path."""
    # A message cannot arrive before it left. Where dates run backwards, some clock is wrong, and the fewest servers
    # whose clocks explain it are the likeliest. Several smallest sets may do: the cheapest one (clocks off by the
    # least, the shortest way) gives the likely waits, and all of them together the bounds; no wait is told for sure
    # that only one of them has.
    if len(stamps) < 2:
        return Estimate((), Wait(0.0, 0.0, 0.0))
    told = sorted(
        (_explained(stamps, wrong) for wrong in _fewest_wrong(stamps)), key=lambda explanation: explanation.cost
    )
    waits = [_together([_gap(item, stamps, place) for item in told]) for place in range(len(stamps) - 1)]
    total = _together([_span(item.times[0], item.times[-1]) for item in told])
    named = {offset.server for offset in told[0].wrong}
    others = {offset.server: offset for item in told[1:] for offset in item.wrong if offset.server not in named}
    return Estimate(waits, total, told[0].wrong, tuple(others.values()))


def _together(waits: Sequence[Wait]) -> Wait:
    """The likely wait of the first explanation, with the bounds of all."""
    return Wait(waits[0].likely, min(wait.low for wait in waits), max(wait.high for wait in waits))


def _span(begin: tuple[float, float], end: tuple[float, float]) -> Wait:
    likely = (sum(end) - sum(begin)) / 2
    return Wait(max(likely, 0.0), max(end[0] - begin[1], 0.0), max(end[1] - begin[0], 0.0))


def _gap(told: _Told, stamps: Sequence[tuple[str, float]], place: int) -> Wait:
    (before, earlier), (after, later) = stamps[place : place + 2]
    if before == after and before:  # one clock tells what it was, however wrong
        delay = max(later - earlier, 0.0)
        return Wait(delay, delay, delay)
    return _span(told.times[place], told.times[place + 1])


# --- which clocks are wrong -----------------------------------------------------------------------------------------


def _fewest_wrong(stamps: Sequence[tuple[str, float]]) -> list[frozenset[int]]:
    """The hops of each smallest set of servers without which no date runs backwards."""
    places: dict[str, list[int]] = {}
    for place, (server, _) in enumerate(stamps):
        places.setdefault(server or f"#{place}", []).append(place)
    doubted = [frozenset(hops) for hops in places.values()]
    if len(doubted) <= MOST_SERVERS:
        for count in range(min(MOST_WRONG, len(doubted)) + 1):
            results = [
                wrong for some in combinations(doubted, count) if _runs(stamps, wrong := frozenset().union(*some))
            ]
            if results:
                return results
    return [frozenset(range(len(stamps))) - frozenset(_agreeing(stamps))]


def _runs(stamps: Sequence[tuple[str, float]], wrong: Collection[int]) -> bool:
    """Whether the dates of all others run forward."""
    latest = float("-inf")
    for place, (_, at) in enumerate(stamps):
        if place in wrong:
            continue
        if at < latest - SKEW:
            return False
        latest = max(latest, at)
    return True


def _agreeing(stamps: Sequence[tuple[str, float]]) -> Iterator[int]:
    """The most hops whose dates run forward, the last one first."""
    best = [1] * len(stamps)
    before = [-1] * len(stamps)
    for place, (_, at) in enumerate(stamps):
        for earlier in range(max(0, place - MOST_SERVERS), place):
            if stamps[earlier][1] <= at + SKEW and best[earlier] >= best[place]:
                best[place], before[place] = best[earlier] + 1, earlier
    place = max(range(len(stamps)), key=lambda index: best[index])
    while place >= 0:
        yield place
        place = before[place]


# --- when it was, then ----------------------------------------------------------------------------------------------


def _explained(stamps: Sequence[tuple[str, float]], wrong: Collection[int]) -> _Told:
    """Between which instants each hop was, when the clocks of the `wrong` ones are not believed."""
    times = _bounds(stamps, wrong)
    offsets: dict[str, tuple[float, float]] = {}
    for place in wrong:
        server, at = stamps[place]
        low, high = at - times[place][1], at - times[place][0]
        was = offsets.get(server, (float("-inf"), float("inf")))
        offsets[server] = max(was[0], low), min(was[1], high)
    for place in wrong:  # a clock is as wrong at one hop as at the other
        server, at = stamps[place]
        low, high = offsets[server]
        if server and low <= high:
            times[place] = at - high, at - low
    return _Told(times, [Offset(server, sum(offset) / 2) for server, offset in offsets.items()])


def _bounds(stamps: Sequence[tuple[str, float]], wrong: Collection[int]) -> list[tuple[float, float]]:
    """The instant of each hop that is believed, and for the others those of its neighbours; at either end of the way
    nothing bounds a wait, and none is made up."""
    believed = [at for place, (_, at) in enumerate(stamps) if place not in wrong]
    after: list[float] = []
    latest = believed[-1] if believed else stamps[-1][1]
    for place in range(len(stamps) - 1, -1, -1):
        latest = min(latest, stamps[place][1]) if place not in wrong else latest
        after.append(latest)
    earliest, times = after[-1], []
    for place, high in enumerate(reversed(after)):
        if place not in wrong:
            earliest = max(earliest, stamps[place][1])
            times.append((earliest, earliest))
        else:
            times.append((min(earliest, high), max(earliest, high)))
    return times
