"""From a next hop's name to a session that is ready for messages: resolve, connect, greet, hello, secure, login."""

from __future__ import annotations

import asyncio
import errno
import ssl
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager

from copper_kite.errors import SessionFailed
from copper_kite.net import tls
from copper_kite.net.client import ClientSession, Plan
from copper_kite.net.dialogue import Dialogue
from copper_kite.net.resolve import resolve
from copper_kite.net.wire import Wire
from copper_kite.words import Cause, Stage

__all__ = ["open_session"]

_CONNECT_CAUSES = {
    errno.ECONNREFUSED: Cause.CONNECTION_REFUSED,
    errno.ENETUNREACH: Cause.UNREACHABLE,
    errno.EHOSTUNREACH: Cause.UNREACHABLE,
    errno.ETIMEDOUT: Cause.CONNECTION_TIMED_OUT,
}


async def open_session(plan: Plan, dialogue: Dialogue) -> ClientSession:
    """A session with the next hop of `plan`, up to and with the login. Raises SessionFailed; nothing stays open then.

    Addresses are tried in the resolver's order until one takes the connection.
    """
    loop = asyncio.get_running_loop()
    began = loop.time()
    try:
        addresses = await resolve(plan.host, plan.port)
    except SessionFailed as error:
        dialogue.noted(loop.time(), error.text)
        raise
    dialogue.noted(loop.time(), f"{plan.host} is {', '.join(addresses)}")
    stages = [(Stage.RESOLVE, loop.time() - began, ", ".join(addresses))]
    began = loop.time()
    failure: SessionFailed | None = None
    for address in addresses:
        try:
            wire, transport = await _connect(plan, address)
        except SessionFailed as error:
            dialogue.noted(loop.time(), f"{address}: {error.text}")
            failure = error
            continue
        dialogue.noted(loop.time(), f"connected to {address} port {plan.port}")
        session = ClientSession(plan, wire, transport, address, dialogue)
        session.stages = [*stages, (Stage.CONNECT, loop.time() - began, address)]
        async with _closing_on_failure(session):
            await _open(plan, session)
        return session
    assert failure is not None
    raise failure


async def _connect(plan: Plan, address: str) -> tuple[Wire, asyncio.Transport]:
    loop = asyncio.get_running_loop()
    implicit = plan.tls == "implicit"
    try:
        async with asyncio.timeout(plan.timeouts.connect):
            transport, wire = await loop.create_connection(
                Wire,
                address,
                plan.port,
                ssl=tls.client_context(plan.trust) if implicit else None,
                server_hostname=plan.host if implicit else None,
                ssl_handshake_timeout=plan.timeouts.secure if implicit else None,
            )
    except TimeoutError as error:
        raise SessionFailed(
            Stage.CONNECT, Cause.CONNECTION_TIMED_OUT, f"no answer in {plan.timeouts.connect:g} s", address=address
        ) from error
    except ssl.SSLError as error:
        raise SessionFailed(Stage.SECURE, tls.cause_of(error), tls.describe(error), address=address) from error
    except OSError as error:
        stage = Stage.CONNECT if error.errno in _CONNECT_CAUSES or not implicit else Stage.SECURE
        cause = _CONNECT_CAUSES.get(error.errno or 0, Cause.LOST)
        raise SessionFailed(stage, cause, (error.strerror or str(error)).lower(), address=address) from error
    return wire, transport


async def _open(plan: Plan, session: ClientSession) -> None:
    if plan.tls == "implicit":
        session.secured(asyncio.get_running_loop().time())
    await session.greet()
    await session.hello()
    if plan.tls == "starttls":
        await session.secure()
    if plan.login:
        await session.login()


@asynccontextmanager
async def _closing_on_failure(session: ClientSession) -> AsyncIterator[None]:
    try:
        yield
    except SessionFailed as failure:
        failure.facts["address"] = session.address
        failure.facts["stages"] = session.stages
        session.abort()
        raise
    except BaseException:
        session.abort()
        raise
