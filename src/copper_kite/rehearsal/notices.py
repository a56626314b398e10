"""Notices in a rehearsal: they are decided on and sent as always, and only their text is not written."""

from __future__ import annotations

from dataclasses import replace

from copper_kite.rehearsal.measures import Measures
from copper_kite.relay import About, Notices, make_notices
from copper_kite.settings import Loaded
from copper_kite.store import IdMaker
from copper_kite.words import State

__all__ = ["counted_notices"]

CONTENT = b"x" * 3000  # about as much as one has


def counted_notices(measures: Measures, loaded: Loaded, ids: IdMaker) -> Notices:
    """The notices of a configuration, each counted in `measures`."""

    def compose(notices: Notices, about: About, id: int, now: float) -> bytes:
        message = about.job.message
        measures.noticed[message.user or message.client] += 1
        if any(outcome.state is State.FAILED for outcome in about.told):
            measures.failure_notices += 1
        else:
            measures.delay_notices += 1
        return CONTENT

    return replace(make_notices(loaded, ids), compose=compose)
