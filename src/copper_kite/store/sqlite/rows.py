"""Rows as they are read, and the values that they are."""

from __future__ import annotations

import json
from collections.abc import Sequence
from typing import Any

from copper_kite.store.facts import read_facts
from copper_kite.store.model import Attempt, Message, Recipient
from copper_kite.words import State

__all__ = ["MESSAGE_COLUMNS", "RECIPIENT_COLUMNS", "attempt_of_row", "message_of_row", "recipient_of_row"]

MESSAGE_COLUMNS = (
    "m.id, m.arrived, m.expires, m.reverse_path, m.size, m.eight_bit, m.utf8, m.message_id, m.listener, m.client,"
    " m.hello, m.user, m.protocol, m.esmtp_parameters, m.subject, m.priority, m.form, m.tls"
)
RECIPIENT_COLUMNS = (
    "r.message, r.number, r.address, r.state, r.attempts, r.next_try, r.connector, r.reply, r.changed,"
    " r.esmtp_parameters, r.next_hop, r.via"
)


def message_of_row(row: Sequence[Any]) -> Message:
    """A row of MESSAGE_COLUMNS."""
    return Message._make((*row[:5], bool(row[5]), bool(row[6]), *row[7:]))


def recipient_of_row(row: Sequence[Any]) -> Recipient:
    """A row of RECIPIENT_COLUMNS, or of more, as an older release wrote it."""
    return Recipient._make((*row[:3], State(row[3]), *row[4:12]))


def attempt_of_row(row: Sequence[Any]) -> Attempt:
    """A row of the table of attempts."""
    return Attempt(
        id=row[0],
        message=row[1],
        at=row[2],
        seconds=row[3],
        connector=row[4],
        next_hop=row[5],
        address=row[6],
        stage=row[7],
        side=row[8],
        cause=row[9],
        code=row[10],
        enhanced=row[11],
        text=row[12],
        facts=read_facts(row[13]),
        dialogue=None if row[14] is None else json.loads(row[14]),
    )
