"""The job whose first commands go out with the content of the one before it (RFC 2920 3.1)."""

from __future__ import annotations

from collections.abc import Callable

from copper_kite.relay.job import Job
from copper_kite.relay.outgoing import Outgoing
from copper_kite.smtp import Envelope

__all__ = ["Following"]


class Following:
    """At most one job, which `next_waiting` gives: it is the session's from then on."""

    def __init__(self, next_waiting: Callable[[], tuple[Job, Outgoing] | None]) -> None:
        self._next_waiting = next_waiting
        self._next: tuple[Job, Outgoing] | None = None

    @property
    def is_chosen(self) -> bool:
        """Whether there is one, which `take` has not given yet."""
        return self._next is not None

    def choose(self) -> Envelope | None:
        """Take the next waiting job for this session, if there is one; its envelope."""
        self._next = self._next_waiting()
        return None if self._next is None else self._next[1].envelope

    def take(self) -> tuple[Job | None, Outgoing | None]:
        """The job chosen, once, as it goes."""
        chosen, self._next = self._next, None
        return (None, None) if chosen is None else chosen
