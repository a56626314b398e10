"""The calls of a lane to its owner."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Sequence
from typing import Protocol

from copper_kite.net import Plan, SessionFailed
from copper_kite.relay.backlog import Key
from copper_kite.relay.delivery import Report
from copper_kite.relay.hops import Down
from copper_kite.relay.job import Job
from copper_kite.settings import Endpoint

__all__ = ["Sink", "TellingLane"]


class TellingLane(Protocol):
    """The lane that tells something."""

    key: Key
    next_hop: Endpoint


class Sink(Protocol):
    """Where reports go. The future is done when the report is on stable storage."""

    def report(self, plan: Plan | None, report: Report) -> asyncio.Future[None]:
        """Record what an attempt found."""

    def before_content(self, recorded: asyncio.Future[None] | None) -> Awaitable[None] | None:
        """What is to be awaited before content goes, where `recorded` is what the session did before."""

    def give_back(self, job: Job) -> None:
        """Take back a job that a retired lane did not begin."""

    def divided(self, job: Job, ours: Job, theirs: Job) -> None:
        """A job was split into two."""

    def stopped(self, lane: TellingLane, down: Down, waiting: Sequence[Job]) -> None:
        """No next hop is reachable: take back the jobs that wait."""

    def came_back(self, lane: TellingLane) -> None:
        """Next hops are reachable again."""

    def fault(self, error: BaseException, **facts: object) -> str:
        """Log an unexpected exception; the text that names it."""

    def sessions_limited(self, connector: str, allowed: int, failure: SessionFailed) -> None:
        """Note that a next hop refused one session more."""
