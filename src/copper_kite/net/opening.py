"""From a next hop's name to a session that is ready for messages: resolve, connect, greet, hello, secure, login."""

from __future__ import annotations

import asyncio
import errno
import os
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from dataclasses import replace
from typing import TypeVar

from copper_kite.errors import SessionFailed
from copper_kite.net.client import ClientSession
from copper_kite.net.dialogue import Dialogue
from copper_kite.net.plan import Plan
from copper_kite.net.resolve import resolve
from copper_kite.net.tls import UNVERIFIED, Sessions
from copper_kite.net.wire import Wire
from copper_kite.words import Cause, Stage

__all__ = ["closing_on_failure", "connect", "connect_as", "open_session"]

S = TypeVar("S", bound=ClientSession)

_CONNECT_CAUSES = {
    errno.ECONNREFUSED: Cause.CONNECTION_REFUSED,
    errno.ENOENT: Cause.CONNECTION_REFUSED,  # of a Unix socket: nobody made it
    errno.ENETUNREACH: Cause.UNREACHABLE,
    errno.EHOSTUNREACH: Cause.UNREACHABLE,
    errno.ETIMEDOUT: Cause.CONNECTION_TIMED_OUT,
}


async def open_session(plan: Plan, dialogue: Dialogue, earlier: Sessions | None = None) -> ClientSession:
    """A session with the next hop of `plan`, up to and with the login; TLS goes on with an `earlier` session's.

    Raises SessionFailed; nothing stays open then.
    """
    if plan.tls == "opportunistic":
        return await _open_opportunistically(plan, dialogue, earlier)
    session = await connect(plan, dialogue, earlier)
    async with closing_on_failure(session):
        if plan.tls == "implicit":
            await session.secure_at_once()
        await session.greet()
        await session.hello()
        if plan.tls == "starttls":
            await session.secure()
        if plan.login:
            await session.login()
    return session


async def _open_opportunistically(plan: Plan, dialogue: Dialogue, earlier: Sessions | None) -> ClientSession:
    """TLS as far as it goes, whoever it is with; where the handshake fails, a new connection in clear (RFC 7435 3)."""
    plan = replace(plan, trust=UNVERIFIED)
    session = await connect(plan, dialogue, earlier)
    try:
        async with closing_on_failure(session):
            await session.greet()
            await session.hello()
            if "STARTTLS" in session.capabilities:
                await session.secure()
    except SessionFailed as failure:
        if failure.stage is not Stage.SECURE:
            raise
        dialogue.noted(asyncio.get_running_loop().time(), "no TLS to be had: once more, in clear")
        return await open_session(replace(plan, tls="off"), dialogue)
    if plan.login:
        async with closing_on_failure(session):
            await session.login()
    return session


async def connect(plan: Plan, dialogue: Dialogue, earlier: Sessions | None = None) -> ClientSession:
    """A session with the next hop of `plan` in which nothing is said yet. Raises SessionFailed as `connect_as` does."""
    return await connect_as(ClientSession, plan, dialogue, earlier)


async def connect_as(kind: type[S], plan: Plan, dialogue: Dialogue, earlier: Sessions | None = None) -> S:
    """A connection to the next hop of `plan`, with nothing said yet. Raises SessionFailed.

    Addresses are tried in the resolver's order until one takes the connection; a failure is that of the last one, and
    its facts hold `tried` and `stages` as the session's would be.
    """
    loop = asyncio.get_running_loop()
    began = loop.time()
    if plan.path:
        addresses, stages = [f"unix:{plan.path}"], []
    else:
        addresses = await _addresses(plan, dialogue)
        stages = [(Stage.RESOLVE, loop.time() - began, ", ".join(addresses))]
    began = loop.time()
    tried: list[tuple[str, str]] = []
    for address in addresses:
        try:
            wire, transport = await _connect(plan, address)
        except SessionFailed as failure:
            dialogue.noted(loop.time(), f"{address}: {failure.text}")
            tried.append((address, failure.text))
            if address is not addresses[-1]:
                continue
            failure.facts.update(stages=stages, tried=tried)
            raise
        dialogue.noted(loop.time(), f"connected to {address}" + (f" port {plan.port}" if plan.port else ""))
        session = kind(plan, wire, transport, address, dialogue, earlier)
        session.stages = [*stages, (Stage.CONNECT, loop.time() - began, address)]
        session.tried = tried
        return session
    raise SessionFailed(Stage.RESOLVE, Cause.NAME_NOT_FOUND, f"{plan.host}: no address")


async def _addresses(plan: Plan, dialogue: Dialogue) -> list[str]:
    loop = asyncio.get_running_loop()
    try:
        addresses = await resolve(plan.host, plan.port, plan.timeouts.resolve, plan.dns)
    except SessionFailed as error:
        dialogue.noted(loop.time(), error.text)
        raise
    dialogue.noted(loop.time(), f"{plan.host} is {', '.join(addresses)}")
    return addresses


async def _connect(plan: Plan, address: str) -> tuple[Wire, asyncio.Transport]:
    loop = asyncio.get_running_loop()
    try:
        async with asyncio.timeout(plan.timeouts.connect):
            if plan.path:
                transport, wire = await loop.create_unix_connection(Wire, plan.path)
            else:
                transport, wire = await loop.create_connection(Wire, address, plan.port)
    except TimeoutError as error:
        text = f"no answer in {plan.timeouts.connect:g} s"
        raise SessionFailed(Stage.CONNECT, Cause.CONNECTION_TIMED_OUT, text, address=address) from error
    except OSError as error:
        cause = _CONNECT_CAUSES.get(error.errno or 0, Cause.LOST)
        raise SessionFailed(Stage.CONNECT, cause, _reason(error), address=address) from error
    return wire, transport


def _reason(error: OSError) -> str:
    """The system's words for it, without what asyncio writes before them."""
    return (os.strerror(error.errno) if error.errno else str(error)).lower()


@asynccontextmanager
async def closing_on_failure(session: ClientSession) -> AsyncIterator[None]:
    """Drop the connection when the session fails, and keep with the failure how far it got."""
    try:
        yield
    except SessionFailed as failure:
        failure.facts.update(session.facts())
        session.abort()
        raise
    except BaseException:
        session.abort()
        raise
