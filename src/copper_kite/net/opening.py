"""From a next hop's name to a session that is ready for messages: resolve, connect, greet, hello, secure, login.

A host may have several addresses. What fails before a login (no connection, no greeting, EHLO or TLS refused) says
little about the others, so the next one is tried (RFC 5321 5.1); what the host says to a login holds for all of them.
"""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from dataclasses import replace
from typing import TypeVar

from copper_kite.net.addresses import (
    MAX_ADDRESSES,
    AddressMemory,
    Connected,
    connect_to,
    interleave,
    race,
)
from copper_kite.net.client import ClientSession
from copper_kite.net.conversation import FAREWELL_SECONDS
from copper_kite.net.dialogue import Dialogue
from copper_kite.net.failure import SessionFailed, StageDone, Tried
from copper_kite.net.plan import Plan
from copper_kite.net.relaying import RelaySession
from copper_kite.net.resolve import resolve_host
from copper_kite.net.tls import UNVERIFIED, Sessions
from copper_kite.settings import Endpoint
from copper_kite.words import Cause, Stage

__all__ = ["closing_on_failure", "connect", "connect_as", "open_session"]

S = TypeVar("S", bound=ClientSession)

LONGEST_SECONDS = 300.0  # after which no further address of a host is begun

# What stops a session at these stages may be a matter of the one address; of these causes, never.
_OF_ONE_ADDRESS = frozenset({Stage.CONNECT, Stage.GREET, Stage.HELLO, Stage.SECURE})
_OF_US = frozenset({Cause.TRUST_UNUSABLE})
_ORDER = {stage: place for place, stage in enumerate(Stage)}


async def open_session(
    plan: Plan, dialogue: Dialogue, earlier: Sessions | None = None, memory: AddressMemory | None = None
) -> RelaySession:
    """A session with the next hop of `plan`, up to and with the login; TLS goes on with an `earlier` session's.

    Its addresses are tried until one gives a session, those that `memory` holds for bad last. Raises SessionFailed, the
    failure that came furthest; nothing stays open then.
    """
    plan = _opportunistic(plan)
    host = await _Host.resolved(plan, dialogue, memory)
    while True:
        connected = await host.connect()
        try:
            session = await _prepared(host, connected, earlier)
        except SessionFailed as failure:
            host.failed(failure)
            if not host.may_go_on(failure):
                raise host.furthest from failure
        else:
            host.worked(session.address)
            return session


async def connect(plan: Plan, dialogue: Dialogue, earlier: Sessions | None = None) -> ClientSession:
    """A session with the next hop of `plan` in which nothing is said yet. Raises SessionFailed as `connect_as` does."""
    return await connect_as(ClientSession, plan, dialogue, earlier)


async def connect_as(kind: type[S], plan: Plan, dialogue: Dialogue, earlier: Sessions | None = None) -> S:
    """A connection to the next hop of `plan`, by the address that takes one first, with nothing said yet.

    Raises SessionFailed.
    """
    host = await _Host.resolved(plan, dialogue)
    return host.session(kind, plan, await host.connect(), earlier)


def _opportunistic(plan: Plan) -> Plan:
    """Opportunistic TLS verifies nobody (RFC 7435)."""
    return replace(plan, trust=UNVERIFIED) if plan.tls == "opportunistic" else plan


class _Host:
    """The addresses of one host that are still to be tried, and what became of the others."""

    def __init__(self, plan: Plan, dialogue: Dialogue, memory: AddressMemory, addresses: list[str]) -> None:
        self._loop = asyncio.get_running_loop()
        self.plan = plan
        self.dialogue = dialogue
        self._memory = memory
        self._began = self._loop.time()
        self._left = addresses
        self._stages: list[StageDone] = []
        self._tried: list[Tried] = []
        self._furthest: SessionFailed | None = None

    @classmethod
    async def resolved(cls, plan: Plan, dialogue: Dialogue, memory: AddressMemory | None = None) -> _Host:
        """With the addresses that the host has. Raises SessionFailed."""
        loop, memory = asyncio.get_running_loop(), memory or AddressMemory()
        dialogue.next_hop, dialogue.session = plan.where, None
        if plan.path:
            return cls(plan, dialogue, memory, [f"unix:{plan.path}"])
        if plan.address:
            return cls(plan, dialogue, memory, [plan.address])
        began = loop.time()
        try:
            result = await resolve_host(plan.host, plan.port, plan.timeouts.resolve, plan.dns)
        except SessionFailed as error:
            dialogue.noted(loop.time(), error.text)
            raise
        said = ", ".join(result)
        dialogue.noted(loop.time(), f"{plan.host} is {said}")
        host = cls(plan, dialogue, memory, memory.order(interleave(result), began)[:MAX_ADDRESSES])
        host._stages.append(StageDone(Stage.RESOLVE, loop.time() - began, said))
        return host

    async def connect(self) -> Connected:
        """A connection to one of the addresses left. Raises SessionFailed when none takes one."""
        self.dialogue.session = None
        try:
            connected = await race(self.plan, tuple(self._left), self.failed)
        except SessionFailed:
            raise self.furthest from None
        address = connected[0]
        self._left.remove(address)
        where = str(Endpoint(address, self.plan.port)) if self.plan.port else address
        self.dialogue.noted(self._loop.time(), f"TCP connection to {where}")
        return connected

    def session(self, kind: type[S], plan: Plan, connected: Connected, earlier: Sessions | None) -> S:
        """A session of `kind` on a connection, in which nothing is said yet."""
        address, wire, transport = connected
        session = kind(plan, wire, transport, address, self.dialogue, earlier)
        session.stages = [*self._stages, StageDone(Stage.CONNECT, self._loop.time() - self._began, address)]
        session.tried = self._tried
        self.dialogue.session = session
        return session

    def failed(self, failure: SessionFailed) -> None:
        """Keep in mind that an address gave no session."""
        address = failure.seen.address
        if failure.stage is Stage.CONNECT:
            self.dialogue.noted(self._loop.time(), f"{address}: {failure.text}")
        if address in self._left:
            self._left.remove(address)
        # Only what goes wrong up to STARTTLS speaks of the address: a refused login would be refused at the next one,
        # too, and would count twice against the account. The failure that came furthest tells most of what is wrong.
        if failure.stage in _OF_ONE_ADDRESS:
            self._memory.failed(address, self._loop.time())
        if self._furthest is None or _ORDER[failure.stage] > _ORDER[self._furthest.stage]:
            self._furthest = failure
        self._tried.append(Tried(self.plan.where, address, failure.stage, failure.cause, failure.said))

    def worked(self, address: str) -> None:
        """An address gave a session."""
        self._memory.worked(address)

    def may_go_on(self, failure: SessionFailed) -> bool:
        """Whether to try another address after this failure."""
        in_time = self._loop.time() - self._began < LONGEST_SECONDS
        return bool(self._left) and in_time and failure.stage in _OF_ONE_ADDRESS and failure.cause not in _OF_US

    @property
    def furthest(self) -> SessionFailed:
        """The failure that came furthest, with all addresses that were tried."""
        failure = self._furthest
        assert failure is not None, "an address failed before this is asked"
        if not failure.seen.stages:
            failure.seen = replace(failure.seen, stages=self._stages)
        failure.seen = replace(failure.seen, tried=self._tried)
        return failure


async def _prepared(host: _Host, connected: Connected, earlier: Sessions | None) -> RelaySession:
    """A session that is ready for messages, on this connection or on a new one to the same address.

    A TLS that fails where it was to go on with an earlier session begins anew, once; an opportunistic one that fails
    gives way to a session in clear, never on the connection that failed (RFC 7435 3). Raises SessionFailed.
    """
    # Each turn gives up one thing for good (the earlier TLS session, then, where that is allowed, TLS), so there are
    # three at most. A handshake that failed leaves a connection in no known state: the next try is on a new one.
    plan = host.plan
    while True:
        session = host.session(RelaySession, plan, connected, earlier)
        try:
            async with closing_on_failure(session):
                await _make_ready(session)
            return session
        except SessionFailed as failure:
            if failure.stage is not Stage.SECURE:
                raise
            if session.tried_to_resume:
                earlier, remark = None, "TLS resumption failed: trying again without"
            elif plan.fallback is not None:
                plan, remark = (
                    _opportunistic(plan.fallback),
                    "what MTA-STS would demand failed (testing): going on without",
                )
            elif plan.tls == "opportunistic":
                plan, remark = replace(plan, tls="off"), "no TLS available: trying again in clear"
            else:
                raise
        host.dialogue.noted(asyncio.get_running_loop().time(), remark)
        connected = await connect_to(plan, session.address)


async def _make_ready(session: RelaySession) -> None:
    """Everything from the greeting to the login. Raises SessionFailed."""
    plan = session.plan
    if plan.tls == "implicit":
        await session.secure_at_once()
    await session.greet()
    await session.hello()
    if plan.tls == "starttls" or (plan.tls == "opportunistic" and "STARTTLS" in session.capabilities):
        await session.secure()
    if plan.login:
        await session.login()


@asynccontextmanager
async def closing_on_failure(session: ClientSession) -> AsyncIterator[None]:
    """End the session when it fails: with QUIT where that can still be said (RFC 5321 4.1.1.10)."""
    try:
        yield
    except SessionFailed:
        await session.close(FAREWELL_SECONDS)
        raise
    except BaseException:
        session.abort()
        raise
