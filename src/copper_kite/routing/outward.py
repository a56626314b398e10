"""Rewriting of local names: how `[identity]` changes a sender or a recipient before routing."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Protocol

from copper_kite.smtp import split_mailbox

__all__ = ["Outward"]


class _Names(Protocol):
    """The settings of `[identity]` that it uses."""

    @property
    def domain(self) -> str | None: ...
    @property
    def senders(self) -> Mapping[str, str]: ...
    @property
    def recipients(self) -> Mapping[str, str]: ...


class Outward:
    """Paths as they leave. Whoever asks where mail goes asks here first: listeners, `kite pipe`, `kite route`.

    A name of this machine (`localhost`, the first label of the server's name) counts as no domain: it means nothing
    elsewhere. Another domain without a dot is not qualified, and cannot be completed (RFC 6409 4.2).
    """

    def __init__(self, identity: _Names, server: str) -> None:
        self._identity = identity
        self._server = server
        self.completes = bool(identity.senders or identity.recipients) or identity.domain is not None
        self._own_domains = frozenset(("", server.lower()))
        self._machine = frozenset(("localhost", "localhost.localdomain", server.partition(".")[0].lower()))

    def is_elsewhere(self, path: str) -> bool:
        """Whether a path has a domain that is not this server's, as nearly all have. A quoted name alone has none."""
        place = path.rfind("@")
        if place <= 0 or path[-1] == '"':
            return False
        domain = path[place + 1 :].lower()
        if domain in self._own_domains or domain in self._machine:
            return False
        return "." in domain or domain.startswith("[")

    def _own(self, path: str) -> tuple[str, str] | None:
        """Local part and domain of a path that is not elsewhere, without a name of this machine; None: unqualified."""
        local, domain = split_mailbox(path)
        if domain.lower() in self._machine:
            return local, ""
        return None if domain and "." not in domain and domain.lower() not in self._own_domains else (local, domain)

    def recipient(self, path: str) -> str | None:
        """A bare name gets its domain, a name that has an outward address gets that; None when neither can be."""
        if self.is_elsewhere(path):
            return path
        if (own := self._own(path)) is None:
            return None
        local, domain = own
        path = f"{local}@{domain}" if domain else local
        identity, passed = self._identity, set()
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
        if (own := self._own(path)) is None:
            return None
        local, domain = own
        senders = self._identity.senders
        if outside := senders.get(local.lower()) or senders.get("*"):
            return outside
        if domain:
            return path
        return f"{local}@{self._identity.domain}" if self._identity.domain is not None else None
