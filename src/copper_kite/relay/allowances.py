"""The allowances of connectors: which jobs may leave now, wait for jobs on their way, or wait for the next period."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Sequence
from functools import partial

from copper_kite.errors import StoreAway
from copper_kite.mail import format_date
from copper_kite.relay.job import Job
from copper_kite.relay.ledger import Ledger
from copper_kite.relay.log import Log
from copper_kite.settings import Connector

__all__ = ["Allowances"]

AGAIN_SECONDS = 5.0  # while the database with the allowances is away


class Allowances:
    """The ledgers of the connectors that have allowances, and the jobs that are held while it is not known whether
    those on their way use them up.

    `carry` has a job's lane carry it, `put_off` has it wait: until when, and why. `relayed_since` tells how many
    recipients left by a connector since an instant, `reserve` gets a part of an allowance that servers share; `now`
    gives seconds since 1970.
    """

    def __init__(
        self,
        log: Log,
        now: Callable[[], float],
        relayed_since: Callable[[str, float], int],
        reserve: Callable[[str, str, float, int, int], int | None],
        carry: Callable[[Job], None],
        put_off: Callable[[Job, str, float], None],
    ) -> None:
        self._log = log
        self._now = now
        self._relayed_since = relayed_since
        self._reserve = reserve
        self._carry = carry
        self._put_off = put_off
        self._ledgers: dict[str, Ledger] = {}
        self._held: dict[str, deque[Job]] = {}  # by connector
        self._releasing: set[str] = set()

    def __contains__(self, connector: str) -> bool:
        return connector in self._ledgers

    def take_up(self, connectors: Sequence[Connector]) -> list[str]:
        """Go by these settings; the connectors whose allowances are others than before."""
        before, self._ledgers = self._ledgers, {}
        changed = []
        for connector in connectors:
            name, ledger = connector.name, before.get(connector.name)
            if (ledger.allowances if ledger is not None else []) != connector.allowance:
                changed.append(name)
                ledger = None
            if connector.allowance:
                self._ledgers[name] = ledger or Ledger(
                    connector.allowance, partial(self._relayed_since, name), partial(self._reserve, name)
                )
        return changed

    def let_go(self) -> list[Job]:
        """The jobs that are held; they are not any more."""
        held, self._held = self._held, {}
        return [job for jobs in held.values() for job in jobs]

    def offer(self, job: Job) -> None:
        """Let a job start or wait: after those that are held, or for the next period."""
        if self._held.get(job.connector) or not self._may_leave(job):
            self._held.setdefault(job.connector, deque()).append(job)

    def _may_leave(self, job: Job) -> bool:
        """Whether the allowance of a job is decided; a job beyond it is put off to the next period."""
        ledger, count = self._ledgers[job.connector], len(job.recipients)
        try:
            full = ledger.full_until(count, self._now())
        except StoreAway:  # nobody can say what other servers have relayed
            self._put_off(job, "the allowance that servers share cannot be reserved now", self._now() + AGAIN_SECONDS)
            return True
        if full is not None:
            self._put_off(job, f"allowance {full[0]} is used up until {format_date(full[1])}", full[1])
            return True
        if ledger.crowded(count):
            return False
        ledger.take(count)
        self._carry(job)
        return True

    def settle(self, job: Job, relayed: int) -> None:
        """A job has ended, or is given back: what its recipients leave free is for those that are held."""
        ledger = self._ledgers.get(job.connector)
        if ledger is None:
            return
        ledger.settle(len(job.recipients), relayed)
        for allowance, used in ledger.nearly_used():
            self._log.write("warning", "allowance", connector=job.connector, allowance=allowance, used=used)
        held = self._held.get(job.connector)
        if held and job.connector not in self._releasing:  # what becomes of one of them may end here again
            self._releasing.add(job.connector)
            while held:
                other = held.popleft()
                if not self._may_leave(other):
                    held.appendleft(other)
                    break
            self._releasing.discard(job.connector)
