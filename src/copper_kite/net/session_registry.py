"""All open sessions of a server together."""

from __future__ import annotations

import asyncio
import contextlib
from typing import Protocol

from copper_kite.net.peer import Peer
from copper_kite.smtp import Reply

__all__ = ["FAULT", "LONG_ENOUGH", "STOPPING", "SWEEP_SECONDS", "TIMED_OUT", "SessionRegistry"]

SWEEP_SECONDS = 15.0

TIMED_OUT = Reply(421, "4.4.2", "nothing heard for too long; closing")
LONG_ENOUGH = Reply(421, "4.4.2", "this session has lasted long enough; open another")
FAULT = Reply(421, "4.3.0", "an error of this server's own; closing")
STOPPING = Reply(421, "4.3.2", "this server is stopping; try again later")
TOO_MANY_HERE = Reply(421, "4.7.0", "too many sessions from this address; try again later")
TOO_MANY = Reply(421, "4.3.2", "too many sessions; try again later")


class Session(Protocol):
    """The interface of a session that the registry needs."""

    peer: Peer

    @property
    def awaits_answer(self) -> bool:
        """Whether a decision is on its way."""

    def sweep(self) -> None:
        """Look whether it has gone quiet."""

    def fail(self, error: Exception) -> None:
        """Report an unexpected exception."""

    def end(self, reply: Reply) -> None:
        """Close it, with a reason."""

    def abort(self) -> None:
        """Cut its connection."""


class SessionRegistry:
    """All open sessions: how many there may be, which have gone quiet, and how they end together."""

    def __init__(self, limit: int = 1000, each: int = 1000) -> None:
        self.limit = limit
        self.each = each  # from one address
        self._from: dict[str, int] = {}
        self._sessions: set[Session] = set()
        self._empty = asyncio.Event()
        self._empty.set()
        self._sweeper: asyncio.TimerHandle | None = None
        self.stopping = False

    def __len__(self) -> int:
        return len(self._sessions)

    def add(self, session: Session) -> Reply | None:
        """Take a session in; a reply turns it away."""
        self._sessions.add(session)
        self._empty.clear()
        if self._sweeper is None:
            self._sweep_later()
        address = session.peer.address
        count = self._from[address] = self._from.get(address, 0) + 1
        if self.stopping:
            return STOPPING
        if address and count > self.each:
            return TOO_MANY_HERE
        return TOO_MANY if len(self._sessions) > self.limit else None

    def discard(self, session: Session) -> None:
        """A session is over."""
        if session in self._sessions:
            self._sessions.discard(session)
            count = self._from[session.peer.address] = self._from[session.peer.address] - 1
            if not count:
                del self._from[session.peer.address]
        if not self._sessions:
            self._empty.set()

    def _sweep(self) -> None:
        self._sweep_later()
        for session in list(self._sessions):
            try:
                session.sweep()
            except Exception as error:
                session.fail(error)

    def _sweep_later(self) -> None:
        self._sweeper = asyncio.get_running_loop().call_later(SWEEP_SECONDS, self._sweep)

    async def stop(self, seconds: float) -> None:
        """End all sessions: idle ones at once, those that wait for their message's answer when they have it."""
        self.stopping = True
        if self._sweeper is not None:
            self._sweeper.cancel()
        for session in list(self._sessions):
            if not session.awaits_answer:
                session.end(STOPPING)
        with contextlib.suppress(TimeoutError):
            async with asyncio.timeout(seconds):
                await self._empty.wait()
        for session in list(self._sessions):
            session.abort()
