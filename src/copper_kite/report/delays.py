"""How long mail waits, from the steps by which delays are counted (`store.DELAY_STEPS`)."""

from __future__ import annotations

from collections.abc import Mapping
from functools import partial

from copper_kite.report.model import Delays
from copper_kite.store import delay_of_step

__all__ = ["delays_of", "quantile"]


def delays_of(name: str, steps: Mapping[int, int]) -> Delays:
    """The delays of some recipients, at least one, by step."""
    within = partial(quantile, steps)
    return Delays(name, sum(steps.values()), within(0.5), within(0.95), within(0.99), delay_of_step(max(steps) + 1))


def quantile(steps: Mapping[int, int], share: float) -> float:
    """The seconds within which a share of the recipients had been relayed; within a step, a delay is anywhere alike."""
    left = share * sum(steps.values())
    for step, count in sorted(steps.items()):
        if left <= count:
            return delay_of_step(step + left / count)
        left -= count
    return delay_of_step(max(steps) + 1)
