"""`python -m bench signing`: the relay of signed mail beside that of unsigned mail, in turns."""

from __future__ import annotations

import argparse
import statistics
from collections.abc import Callable

__all__ = ["GOALS", "signing", "signing_table"]

GOALS = {"ed25519": 0.9, "rsa": 0.7}


def signing_table(kind: str) -> str:
    """The table that has everything from the load's sender signed by a key beside the configuration."""
    return f'[[signing]]\ndomain = "ternferries.example"\nselector = "{kind}"\nkey = "{kind}.pem"\n'


def signing(arguments: argparse.Namespace, measure: Callable[[str], float]) -> None:
    """`measure` gives messages a second with this kind of key, or with none."""
    ratios: dict[str, list[float]] = {kind: [] for kind in GOALS}
    after = measure("")
    for number in range(1, arguments.rounds + 1):
        for kind in GOALS:
            before, signed, after = after, measure(kind), measure("")
            ratios[kind].append(2 * signed / (before + after))
            print(
                f"round {number}: unsigned {before:6.0f} and {after:6.0f} msgs/s   {kind} {signed:6.0f} msgs/s"
                f"   {ratios[kind][-1]:.3f}",
                flush=True,
            )
    for kind, goal in GOALS.items():
        print(f"signed with {kind}: {statistics.median(ratios[kind]):.3f} of unsigned (median); goal {goal}")
