"""Transactions as the writer hands them to the process that writes."""

from __future__ import annotations

from copper_kite.store import AddMessage, RecordRelayed, Transaction
from copper_kite.store.shared.batch import Batch
from copper_kite.store.shared.encoding import Put, encode


def batch_of(transaction: Transaction, put: Put) -> Batch:
    """It alone."""
    steps = encode(transaction, put)
    if len(transaction) == 1:
        operation, (_, row) = transaction[0], steps[0]
        if isinstance(operation, RecordRelayed):
            return Batch(relayed=[row])
        if isinstance(operation, AddMessage) and operation.content is not None:
            return Batch(additions=[row])
    return Batch(others=[steps])
