"""The attempts of a lane that run now, for commands."""

from __future__ import annotations

from collections.abc import Iterable

from copper_kite.net import Dialogue
from copper_kite.relay.network import Session
from copper_kite.store import AttemptNow
from copper_kite.words import Stage

__all__ = ["attempts_now"]


def attempts_now(sessions: Iterable[Session], opening: tuple[float, Dialogue] | None) -> tuple[AttemptNow, ...]:
    """The running attempts; first the one that opens a session, where it began and what was said so far."""
    running = [
        AttemptNow(*session.carries, session.where, session.address, session.stage.value)
        for session in sessions
        if session.carries is not None
    ]
    if opening is not None:
        since, dialogue = opening
        session, stage = dialogue.session, Stage.CONNECT if dialogue.lines else Stage.RESOLVE
        address, stage = ("", stage) if session is None else (session.address, session.stage)
        running.insert(0, AttemptNow(0, since, dialogue.next_hop, address, stage.value))
    return tuple(running)
