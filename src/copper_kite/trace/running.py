"""The attempts of a message that are running now."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from copper_kite.store import AttemptNow, LaneNow, Message, Recipient
from copper_kite.words import State

__all__ = ["attempt_of"]


def attempt_of(lanes: Iterable[LaneNow], message: Message, recipients: Sequence[Recipient]) -> AttemptNow | None:
    """Its own; else the one that opens a session for those who wait in the lane of a recipient that was not tried yet;
    None where there is neither."""
    waits = {(recipient.connector, domain) for recipient in recipients if recipient.state is State.QUEUED
             for domain in ("", recipient.address.rpartition("@")[2].lower())}  # fmt: skip
    opening: AttemptNow | None = None
    for lane in lanes:
        for attempt in lane.attempts:
            if attempt.message == message.id:
                return attempt
            if not attempt.message and not lane.open and (lane.connector, lane.domain) in waits:
                opening = attempt
    return opening
