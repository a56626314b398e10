"""Waits of M/M/c and M/D/c, by formula and as they are rehearsed. `python -m tests.rehearsal.theory` prints a table.

A mean of random waits strays by some per cent from its expectation even over 100,000 messages. So what is rehearsed is
also compared with the recursion of Kiefer and Wolfowitz over the same arrivals and times, whose expectation is the
formula's: that takes chance out of the comparison.
"""

from __future__ import annotations

import math
import sys
from collections.abc import Sequence
from heapq import heapify, heapreplace
from itertools import pairwise
from statistics import fmean
from typing import NamedTuple

from copper_kite.rehearsal.next_hops import ModelNetwork
from copper_kite.rehearsal.run import run_once
from tests.rehearsal.worlds import all_delays, configured, poisson, world_of

__all__ = ["TABLE", "Waits", "erlang_wait", "measured_waits"]

# sessions, load, whether all messages take alike long
TABLE = ((1, 0.6, False), (1, 0.7, True), (3, 0.7, False), (5, 0.8, True))
QUANTILES = 4000


class Waits(NamedTuple):
    """Mean waits for a session, in units of a message's time: as rehearsed, and by the recursion."""

    rehearsed: float
    recursion: float


def erlang_wait(sessions: int, load: float, *, constant: bool) -> float:
    """The expected wait in units of a message's time: Erlang C; for constant times half of it, with Cosmetatos'
    correction for several sessions."""
    offered = sessions * load
    terms = [offered**number / math.factorial(number) for number in range(sessions)]
    last = offered**sessions / math.factorial(sessions) / (1 - load)
    wait = last / (sum(terms) + last) / (sessions * (1 - load))
    if not constant:
        return wait
    bend = (1 - load) * (sessions - 1) * (math.sqrt(4 + 5 * sessions) - 2) / (16 * load * sessions)
    return wait / 2 * (1 + bend)


def measured_waits(sessions: int, load: float, *, constant: bool, messages: int, seed: int) -> Waits:
    """One run, and the recursion over the same messages."""
    service = [1.0] if constant else _exponential()
    seconds = messages / sessions / load
    world = world_of(configured(sessions=sessions), seconds, service=service, connect=0.0)
    arrivals = list(poisson(sessions * load, seconds, seed))
    chance = ModelNetwork.chance_of(seed)
    times = [service[int(chance(arrival.at, 0, 0) * len(service))] for arrival in arrivals]
    delays = all_delays(run_once(world, iter(arrivals), seed))
    return Waits(fmean(delays) - fmean(times), _recursion([arrival.at for arrival in arrivals], times, sessions))


def _recursion(arrivals: Sequence[float], times: Sequence[float], sessions: int) -> float:
    """Who comes first is served first, by the session that is free first."""
    free = [0.0] * sessions
    heapify(free)
    total = 0.0
    for at, takes in zip(arrivals, times, strict=True):
        begins = max(at, free[0])
        heapreplace(free, begins + takes)
        total += begins - at
    return total / len(times)


def _exponential() -> list[float]:
    """Values alike likely that stand for an exponential distribution: the mean of each part of it."""
    edges = [1 - number / QUANTILES for number in range(QUANTILES + 1)]
    values = [edge * (1 - math.log(edge)) if edge else 0.0 for edge in edges]
    return [QUANTILES * (before - after) for before, after in pairwise(values)]


def _print_table(messages: int, seeds: int) -> None:
    print("| queue | load | formula | rehearsed | difference | recursion, same messages |\n" + "| --- " * 6 + "|")
    for sessions, load, constant in TABLE:
        expected = erlang_wait(sessions, load, constant=constant)
        waits = [
            measured_waits(sessions, load, constant=constant, messages=messages, seed=seed)
            for seed in range(1, seeds + 1)
        ]
        rehearsed, recursion = fmean(item.rehearsed for item in waits), fmean(item.recursion for item in waits)
        name = f"M/{'D' if constant else 'M'}/{sessions}"
        print(
            f"| {name} | {load} | {expected:.4f} | {rehearsed:.4f} | {rehearsed / expected - 1:+.1%} | {recursion:.4f} |"
        )


if __name__ == "__main__":
    _print_table(*map(int, sys.argv[1:] or (200_000, 10)))
