"""The context that all sessions of a listener share: permissions, destination and settings."""

from __future__ import annotations

import hashlib
import hmac
import secrets
from collections.abc import Callable

from copper_kite.clock import Clock
from copper_kite.mail import Completion
from copper_kite.relay.admission import AdmissionControl
from copper_kite.relay.gate import Client, Gate
from copper_kite.relay.log import Log
from copper_kite.relay.pace import Paces
from copper_kite.relay.recipient_outcome import parameter_value
from copper_kite.relay.recordings import Recordings
from copper_kite.relay.refusals import Refusals
from copper_kite.routing import Outward, Router, any_fits
from copper_kite.settings import Listener, Loaded, is_within
from copper_kite.smtp import NoDirectory, ScramKey, made_up_key
from copper_kite.store import AddMessage, IdMaker, Submit

__all__ = ["Submission"]

PRIORITIES = {"urgent": 4, "normal": 0, "bulk": -4}  # RFC 6710, the profile MIXER


class Submission(NoDirectory):
    """The state that all sessions of one listener share. `submit` writes a transaction, `accepted` gets what has become
    durable, `fault` exceptions that nobody expected."""

    def __init__(
        self,
        loaded: Loaded,
        listener: Listener,
        ids: IdMaker,
        clock: Clock,
        submit: Submit,
        accepted: Callable[[AddMessage], None],
        gate: Gate,
        room: AdmissionControl,
        refusals: Refusals,
        recordings: Recordings,
        log: Log,
        fault: Callable[..., str],
    ) -> None:
        self.recordings = recordings
        self.log = log
        self.fault = fault
        self.gate = gate
        self.room = room
        self.refusals = refusals
        self.paces = Paces(clock.steady)
        self.ids = ids
        self.clock = clock
        self.submit = submit
        self.accepted = accepted
        self.renew(loaded, listener)

    def renew(self, loaded: Loaded, listener: Listener) -> None:
        """Go by other settings from the next command on."""
        self.rules = object()  # the same as long as what was decided would be decided again
        self.server = loaded.server_name
        self.lifetime = loaded.settings.retry.lifetime
        self.max_hops = loaded.settings.server.max_hops
        self.listener = listener
        self.accounts = loaded.accounts
        self.outward = outward = Outward(loaded.settings.identity, self.server)
        self.completion = Completion(outward.sender, outward.recipient) if outward.completes else None
        self.priorities = {entry.name: entry.priority for entry in loaded.settings.account}
        self.priority_rules = loaded.settings.priority
        self.carrier = Router(loaded.settings.connector).carrier
        self.postmaster = loaded.postmaster

    def nonce(self) -> str:
        """A nonce for one login."""
        return secrets.token_urlsafe(18)

    def scram_key(self, login: str, digest: str) -> tuple[ScramKey, bool]:
        """An account's key; for an unknown one something that looks like one."""
        key = self.accounts.get(login)
        if key is not None and key.digest == digest:
            return key, True
        return self.made_up_key(login), False

    def made_up_key(self, login: str) -> ScramKey:
        """For an account that is not there: always the same, and it takes as long to check as one that is."""
        known = sorted(self.accounts.items())
        secret = hashlib.sha256(b"".join(result.stored_key for _, result in known)).digest()
        place = hmac.digest(secret, login.encode(), "sha256")[0]
        return made_up_key(login, secret, known[place % len(known)][1] if known else None)

    def allows(self, address: str) -> bool:
        """Whether this client may submit mail without a login. A Unix socket's clients may: its mode says who."""
        return not address or is_within(address, self.listener.allow)

    def priority(self, account: str, reverse_path: str, esmtp_parameters: str) -> int:
        """The priority of a message, from -9 to 9 (RFC 6710): by its account, a rule, its program, its listener."""
        name = self.priorities.get(account)
        if name is None:
            name = next((rule.priority for rule in self.priority_rules if any_fits(rule.senders, reverse_path)), None)
        if name is None and (chosen := parameter_value(esmtp_parameters, "MT-PRIORITY")):
            return int(chosen)
        return PRIORITIES[name or self.listener.priority]

    def wait_for_pace(self, client: Client) -> float | None:
        """How many seconds a client's next message has to wait; None where that is too long."""
        wait: float | None = 0.0
        if self.listener.pace is not None:
            wait = self.paces.wait(client.who, self.listener.pace, self.room.longest_wait)
        if wait is not None and client.account:
            account = self.gate.wait_for_pace(client.account, self.room.longest_wait)
            wait = None if account is None else max(wait, account)
        return wait
