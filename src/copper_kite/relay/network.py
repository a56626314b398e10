"""The network as delivery uses it: sessions with next hops, second looks at those that fail, and who they are.

It is one object, so that a rehearsal can put a model of the next hops in its place.
"""

from __future__ import annotations

from collections.abc import Awaitable, Callable, Iterable, Sequence
from typing import Protocol

from copper_kite.net import (
    AddressMemory,
    Dialogue,
    PassedOver,
    Plan,
    SessionFailed,
    Sessions,
    StageDone,
    Tried,
    look_again,
    mail_exchangers,
    open_looking,
    open_session,
    resolve_host,
)
from copper_kite.smtp import Capabilities, Envelope, Result
from copper_kite.words import Stage

__all__ = ["Network", "Session"]


class Session(Protocol):
    """The part of a session with a next hop that delivery uses; `net.RelaySession` says what each member is."""

    plan: Plan
    hop: Plan
    address: str
    where: str
    dialogue: Dialogue
    stages: list[StageDone]
    tried: list[Tried]
    passed_over: tuple[PassedOver, ...]
    chain: list[bytes]
    stage: Stage
    tls_version: str
    cipher: str
    resumed: bool
    mechanism: str
    broken: bool
    begun: int
    carried: int
    carries: tuple[int, float] | None

    @property
    def capabilities(self) -> Capabilities: ...
    @property
    def verified(self) -> bool: ...
    @property
    def usable(self) -> bool: ...
    @property
    def spent(self) -> bool: ...

    async def relay(
        self,
        envelope: Envelope,
        content: Callable[[], Iterable[bytes]],
        before_content: Awaitable[None] | None = None,
        following: Callable[[], Envelope | None] = lambda: None,
    ) -> tuple[Result, ...]:
        """Hand one message over. Raises SessionFailed."""

    async def close(self, seconds: float | None = None) -> None:
        """End it."""

    def abort(self) -> None:
        """Cut it."""


class Network:
    """Sockets and DNS."""

    async def open(
        self, plan: Plan, dialogue: Dialogue, earlier: Sessions, memory: AddressMemory, looked: SessionFailed | None
    ) -> Session:
        """A session with the next hop of `plan`; `looked` is what a second look at it found lately. Raises
        SessionFailed."""
        return await open_looking(plan, dialogue, open_session(plan, dialogue, earlier, memory), looked)

    async def explain(self, plan: Plan, failure: SessionFailed) -> SessionFailed:
        """The failure as a second session explains it."""
        return await look_again(plan, failure)

    async def exchangers(self, domain: str, plan: Plan) -> tuple[Sequence[tuple[int, str]], bool]:
        """The mail exchangers of a domain, and whether DNSSEC vouches for them (see `net.mail_exchangers`)."""
        return await mail_exchangers(domain, plan.timeouts.resolve, plan.dns)

    async def addresses(self, host: str, plan: Plan) -> list[str]:
        """The addresses of a host. Raises SessionFailed."""
        return await resolve_host(host, plan.port, plan.timeouts.resolve, plan.dns)
