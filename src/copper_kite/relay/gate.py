"""Limits on submission: accounts with their bounds, and the guard against a program that sends far too much.

Every decision is a reply that tells the program's owner what happened, and the administrator what to change.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass

from copper_kite.mail import format_date
from copper_kite.relay.pace import Paces
from copper_kite.relay.usage import Usage
from copper_kite.routing import any_fits
from copper_kite.settings import Account, Guard, is_within
from copper_kite.smtp import Reply

__all__ = ["WAIT_TO_LOGIN", "Client", "Gate"]

MAX_WATCHED = 10_000  # pairs of account and address with failed logins
FAILURES = 100  # in a row, of one account from one address, before its logins have to wait (RFC 4954 9)
FAILURES_FORGOTTEN = 900.0  # seconds

WAIT_TO_LOGIN = Reply(454, "4.7.0", "too many failed logins from this address; try again later")


@dataclass(slots=True)
class Client:
    """The client: an address (empty for a Unix socket), the local user there, the account it logged in with."""

    address: str
    user: str = ""
    account: str = ""

    @property
    def who(self) -> str:
        """The sender of the moment, as it is counted and shown."""
        if self.account:
            return f"account {self.account}"
        return f"user {self.user}" if self.user else self.address


class Gate:
    """One for all listeners. `alarmed` is called once an hour for each sender that the guard slows down."""

    def __init__(
        self,
        usage: Usage,
        now: Callable[[], float],
        alarmed: Callable[[str, str], None],
        steady: Callable[[], float] = time.monotonic,
    ) -> None:
        """`now` gives instants, `steady` seconds of a clock that is never set."""
        self.usage = usage
        self._now = now
        self._steady = steady
        self._alarmed = alarmed
        self._accounts: dict[str, Account] = {}
        self._paces = Paces(steady)
        self._guard = Guard()
        self.counts = False  # whether everybody's recipients are, accounts or not
        self._told: dict[str, float] = {}
        self._failures: dict[tuple[str, str], tuple[int, float]] = {}

    def renew(self, accounts: Sequence[Account], guard: Guard) -> None:
        """Go by these from now on."""
        self._accounts = {account.name: account for account in accounts}
        self._guard = guard
        self.counts = bool(guard.allowance) or guard.surge is not None

    # --- logins -----------------------------------------------------------------------------------------------------

    def may_log_in(self, account: str, address: str) -> bool:
        """Whether an account whose password was right may log in from there."""
        known = self._accounts.get(account)
        return known is not None and (not known.networks or is_within(address, known.networks))

    def must_wait(self, account: str, address: str) -> bool:
        """Whether so many logins failed that the next one is not even looked at."""
        count, last = self._failures.get((account, address), (0, 0.0))
        return count >= FAILURES and self._steady() - last < FAILURES_FORGOTTEN

    def login_ended(self, account: str, address: str, *, good: bool) -> None:
        """Count failures in a row, for this account from this address alone, so that no client locks out another."""
        key = account, address
        if good:
            self._failures.pop(key, None)
            return
        count, last = self._failures.get(key, (0, 0.0))
        if key not in self._failures and len(self._failures) >= MAX_WATCHED:
            self._failures.pop(next(iter(self._failures)))
        now = self._steady()
        self._failures[key] = (count + 1 if now - last < FAILURES_FORGOTTEN else 1), now

    def wait_for_pace(self, name: str, longest: float) -> float | None:
        """How many seconds an account's next message has to wait; None where that is over `longest`."""
        account = self._accounts.get(name)
        if account is None or account.pace is None:
            return 0.0
        return self._paces.wait(name, account.pace, longest)

    # --- envelopes --------------------------------------------------------------------------------------------------

    def sender(self, client: Client, path: str) -> Reply | None:
        """Why this client may not send as `path` (empty: it may, since notices of any kind have no sender)."""
        account = self._accounts.get(client.account)
        if client.account and account is None:  # since it logged in
            return Reply(550, "5.7.1", f"account {client.account} is disabled")
        if account is None or not path or not account.senders or any_fits(account.senders, path):
            return None
        return Reply(550, "5.7.1", f"account {account.name} may not send as <{path}>")

    def recipient(self, client: Client, path: str, before: int) -> Reply | None:
        """Why this client may not send to `path`, with so many recipients `before` it in the same message."""
        account = self._accounts.get(client.account)
        if account is not None and not any_fits(account.recipients, path):
            return Reply(550, "5.7.1", f"account {account.name} may not send to <{path}>")
        now, allowed = self._now(), list(self._guard.allowance)
        if account is not None:
            allowed += account.allowance
        for allowance in allowed:
            begin, end = allowance.window(now)
            if self.usage.since(client.who, begin, now) + before >= allowance.count:
                text = f"{client.who} has used up its allowance of {allowance} until {format_date(end)}"
                return Reply(450, "4.7.1", text)
        return self._surge(client.who, before, now)

    def _surge(self, who: str, before: int, now: float) -> Reply | None:
        guard = self._guard
        if guard.surge is None:
            return None
        count, usual = self.usage.this_hour(who, now) + before, self.usage.busiest(who, now)
        bound = max(guard.at_least, int(usual * guard.surge))
        if count < bound:
            return None
        text = f"{who} has sent {count} in this hour, and never more than {usual} before: it is slowed down"
        if now - self._told.get(who, -3600.0) >= 3600.0:
            self._told[who] = now
            self._alarmed(who, text)
        return Reply(450, "4.7.1", text)

    def authors(self, client: Client, addresses: Sequence[str]) -> Reply | None:
        """Why a message with these addresses in From and Sender may not leave for this client (RFC 6409 6.1)."""
        account = self._accounts.get(client.account)
        if account is None or not account.senders:
            return None
        wrong = next((address for address in addresses if not any_fits(account.senders, address)), None)
        return None if wrong is None else Reply(550, "5.7.1", f"account {account.name} may not send as <{wrong}>")
