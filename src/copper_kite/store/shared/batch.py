"""Transactions that are written together, and the faults that keep some of them out."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from copper_kite.errors import KiteError, StoreFailed, StoreFull
from copper_kite.store.shared.encoding import Row, Steps

__all__ = ["FAILED", "FULL", "LOST", "Batch", "Fault", "error_of"]

FULL = "full"  # the kind of fault that is worth trying again when there is room; all else is FAILED
FAILED = "failed"
LOST = "lost"  # nobody can say whether it was written

Fault = tuple[str, str]  # its kind, and what the engine says


class Batch(NamedTuple):
    """Transactions that are written together. `at` is where the octets that go with them stand by now.

    `additions` and `relayed` are those of a single operation that may go in any order; `others` keep theirs.
    """

    at: tuple[int, int] = (0, 0)
    additions: Sequence[Row] = ()
    relayed: Sequence[Row] = ()
    others: Sequence[Steps] = ()

    @property
    def size(self) -> int:
        """How many there are."""
        return len(self.additions) + len(self.relayed) + len(self.others)

    def singled(self) -> list[Batch]:
        """Each transaction as a batch of its own."""
        return [
            *(Batch(self.at, additions=[addition]) for addition in self.additions),
            *(Batch(self.at, relayed=[item]) for item in self.relayed),
            *(Batch(self.at, others=[item]) for item in self.others),
        ]


def error_of(fault: Fault) -> KiteError:
    """The same error for the caller."""
    kind, text = fault
    return (StoreFull if kind == FULL else StoreFailed)(text)
