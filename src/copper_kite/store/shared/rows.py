"""Conversion of rows into values."""

from __future__ import annotations

import json
from collections.abc import Sequence
from typing import Any

from copper_kite.store.facts import read_facts
from copper_kite.store.model import Attempt, LaneStop, Message, Recipient
from copper_kite.words import State

__all__ = [
    "LANE_COLUMNS",
    "MESSAGE_COLUMNS",
    "RECIPIENT_COLUMNS",
    "attempt_of_row",
    "message_of_row",
    "recipient_of_row",
]

MESSAGE_COLUMNS = (
    "m.id, m.arrived, m.expires, m.reverse_path, m.size, m.eight_bit, m.utf8, m.message_id, m.listener, m.client,"
    ' m.hello, m."user", m.protocol, m.esmtp_parameters, m.subject, m.priority, m.form, m.tls'
)
RECIPIENT_COLUMNS = (
    "r.message, r.number, r.address, r.state, r.attempts, r.next_try, r.connector, r.reply, r.changed,"
    " r.esmtp_parameters, r.next_hop, r.via"
)


LANE_COLUMNS = LaneStop._fields[:-1]


def message_of_row(row: Sequence[Any]) -> Message:
    """A row of MESSAGE_COLUMNS."""
    return Message._make((*row[:5], bool(row[5]), bool(row[6]), *row[7:]))


def recipient_of_row(row: Sequence[Any]) -> Recipient:
    """A row of RECIPIENT_COLUMNS, or of more, as an older release wrote it."""
    return Recipient._make((*row[:3], State(row[3]), *row[4:12]))


def attempt_of_row(row: Sequence[Any]) -> Attempt:
    """A row of the table of attempts."""
    *plain, facts, dialogue = row
    return Attempt._make((*plain, read_facts(facts), None if dialogue is None else json.loads(dialogue)))
