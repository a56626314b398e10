"""A second, quick connection after a failed session: it finds the certificate that was not trusted, whether its
issuer's is missing, or that the port begins TLS at once. It transfers no message.
"""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import Coroutine, Sequence
from dataclasses import fields, replace
from typing import Any, TypeVar

from copper_kite.net.certificate import Certificate, read_certificate
from copper_kite.net.dialogue import Dialogue
from copper_kite.net.failure import SessionFailed, SessionSeen
from copper_kite.net.opening import closing_on_failure, connect
from copper_kite.net.plan import Plan, Timeouts
from copper_kite.net.tls import LOOK
from copper_kite.words import Cause, Stage

__all__ = ["look_again", "may_tell_more", "open_looking", "shown_chain"]

LOOKING = 5.0  # seconds for each stage, unless the plan has less patience
SILENT = 5.0  # seconds without a greeting, after which it is looked whether the port waits for TLS
S = TypeVar("S")


def may_tell_more(plan: Plan, failure: SessionFailed) -> bool:
    """Whether a second look at the next hop of `plan` may tell more than this failure."""
    return failure.cause.about_certificate or _is_silent(plan, failure)


async def look_again(plan: Plan, failure: SessionFailed) -> SessionFailed:
    """The failure as it is to be understood: `failure` itself, or what it turns out to be; with the certificates that
    were shown in its `seen`, where there are any."""
    if failure.cause.about_certificate:
        return _with_issuer_named(_with_chain(failure, await _look_at_chain(plan)))
    if _is_silent(plan, failure):
        chain = await _look_at_chain(replace(plan, tls="implicit"))
        if chain:
            text = "it waits for TLS at once, and says nothing in clear"
            return _with_chain(SessionFailed(Stage.GREET, Cause.SPEAKS_TLS, text, seen=failure.seen), chain)
    return failure


def _is_silent(plan: Plan, failure: SessionFailed) -> bool:
    silent = failure.stage is Stage.GREET and failure.cause in (Cause.TIMED_OUT, Cause.LOST)
    return silent and plan.tls != "implicit" and not plan.path


def _with_chain(failure: SessionFailed, chain: Sequence[bytes]) -> SessionFailed:
    failure.seen = replace(failure.seen, chain=chain)
    return failure


def _with_issuer_named(failure: SessionFailed) -> SessionFailed:
    """Where a server shows its own certificate alone, and that one names its issuer's: what is missing, by name."""
    chain = failure.seen.chain
    if failure.cause is not Cause.CERTIFICATE_UNTRUSTED or not chain:
        return failure
    last = read_certificate(chain[-1])
    if last.self_signed or last.signs_others or not last.issuer_url:
        return failure
    text = f"the certificate of {last.issuer}, which signs it, is not sent along; it is at {last.issuer_url}"
    return SessionFailed(failure.stage, Cause.CERTIFICATE_INCOMPLETE, text, seen=failure.seen)


async def open_looking(
    plan: Plan, dialogue: Dialogue, opening: Coroutine[Any, Any, S], known: SessionFailed | None = None
) -> S:
    """The result of `opening`, a session with the next hop of `plan`; where no greeting comes, a look finds out whether
    the port waits for TLS at once, and then ends the wait. `known` is what such a look has found lately.

    Raises what `opening` does, and SessionFailed.
    """
    task = asyncio.ensure_future(opening)
    try:
        await asyncio.wait({task}, timeout=SILENT)
        session = dialogue.session
        if not task.done() and session is not None and session.stage is Stage.GREET:
            seen = SessionSeen(next_hop=plan.where, address=session.address)
            silent = SessionFailed(Stage.GREET, Cause.TIMED_OUT, f"nothing heard for {SILENT:g} s", seen=seen)
            result = known or await look_again(plan, silent)
            if result.cause is Cause.SPEAKS_TLS and not task.done():
                raise SessionFailed(
                    result.stage, result.cause, result.text, seen=replace(seen, chain=result.seen.chain)
                )
        return await task
    finally:
        if not task.done():
            task.cancel()
            with contextlib.suppress(asyncio.CancelledError):
                await task


async def shown_chain(plan: Plan) -> list[Certificate]:
    """The certificates that a server shows, believed or not, its own first; empty when there are none."""
    return [read_certificate(der) for der in await _look_at_chain(plan)]


async def _look_at_chain(plan: Plan) -> Sequence[bytes]:
    """The certificates that a server shows, believed or not. Empty when there are none."""
    bounds = {field.name: min(getattr(plan.timeouts, field.name), LOOKING) for field in fields(Timeouts)}
    looking = replace(plan, trust=LOOK, login="", timeouts=Timeouts(**bounds))
    try:
        session = await connect(looking, Dialogue(0.0))
        async with closing_on_failure(session):
            if looking.tls == "implicit":
                await session.secure_at_once()
            else:
                await session.greet()
                await session.hello()
                await session.secure()
        await session.close()
    except SessionFailed:
        return ()
    return session.chain
