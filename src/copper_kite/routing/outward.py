"""How local names look outside: what `[identity]` makes of a sender or a recipient before anything is chosen."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Protocol

from copper_kite.smtp.mailbox import split_mailbox

__all__ = ["Outward"]


class _Names(Protocol):
    """What of `[identity]` it takes."""

    @property
    def domain(self) -> str | None: ...
    @property
    def senders(self) -> Mapping[str, str]: ...
    @property
    def recipients(self) -> Mapping[str, str]: ...


class Outward:
    """Paths as they leave. Whoever asks where mail goes asks here first: listeners, `kite pipe`, `kite route`."""

    def __init__(self, identity: _Names, server: str) -> None:
        self._identity = identity
        self._server = server
        self.completes = bool(identity.senders) or identity.domain is not None
        self._own_domains = frozenset(("", server, "localhost"))

    def is_elsewhere(self, path: str) -> bool:
        """Whether a path has a domain that is not this server's, as nearly all have. A quoted name alone has none."""
        place = path.rfind("@")
        return place > 0 and path[-1] != '"' and path[place + 1 :].lower() not in self._own_domains

    def recipient(self, path: str) -> str | None:
        """A bare name gets its domain, a name that has an outward address gets that; None when neither can be."""
        if self.is_elsewhere(path):
            return path
        identity, passed = self._identity, set()
        local, domain = split_mailbox(path)
        local = local.lower()
        while local in identity.recipients:
            if local in passed:
                return None  # they point at each other, in a circle
            passed.add(local)
            path = identity.recipients[local]
            if self.is_elsewhere(path):
                return path
            local, domain = split_mailbox(path)
            local = local.lower()
        if domain:
            return path
        if identity.domain is not None:
            return f"{path}@{identity.domain}"
        return f"{path}@{self._server}" if local == "postmaster" else None

    def sender(self, path: str) -> str | None:
        """A local name by `[identity] senders`, else with its domain; None when neither can be."""
        if self.is_elsewhere(path):
            return path
        local, domain = split_mailbox(path)
        senders = self._identity.senders
        if outside := senders.get(local.lower()) or senders.get("*"):
            return outside
        if domain:
            return path
        return f"{path}@{self._identity.domain}" if self._identity.domain is not None else None
