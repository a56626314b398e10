"""The addresses of one host: in which order they are tried, and which ones gave no session lately (RFC 8305).

Connections are raced: the next address is begun 250 ms after the one before, or at once when that one fails, and the
first that connects is taken. So an address that swallows packets costs a quarter of a second, not a minute.
"""

from __future__ import annotations

import asyncio
import errno
import os
from collections import deque
from collections.abc import Callable, Iterable, Sequence
from itertools import chain, zip_longest

from copper_kite.net.client_protocol import ClientProtocol
from copper_kite.net.failure import SessionFailed, SessionSeen
from copper_kite.net.plan import Plan
from copper_kite.words import Cause, Stage

__all__ = ["MAX_ADDRESSES", "AddressMemory", "Connected", "connect_to", "interleave", "race"]

STAGGER_SECONDS = 0.25  # RFC 8305 5
MAX_ADDRESSES = 10  # of one host that are tried; RFC 5321 5.1 wants at least two
BAD_SECONDS = 600.0  # for which an address that gave no session comes after the others
MAX_REMEMBERED = 1000  # addresses

_CAUSES = {
    errno.ECONNREFUSED: Cause.CONNECTION_REFUSED,
    errno.ENOENT: Cause.CONNECTION_REFUSED,  # of a Unix socket: nobody made it
    errno.ENETUNREACH: Cause.UNREACHABLE,
    errno.EHOSTUNREACH: Cause.UNREACHABLE,
    errno.ETIMEDOUT: Cause.CONNECTION_TIMED_OUT,
}

Connected = tuple[str, ClientProtocol, asyncio.Transport]  # the address, and both ends of the connection to it


class AddressMemory:
    """The addresses that gave no session lately. Instants in seconds of any one clock."""

    def __init__(self) -> None:
        self._bad_since: dict[str, float] = {}

    def failed(self, address: str, now: float) -> None:
        """Remember that an address gave no session; the oldest entry makes room for it."""
        self._bad_since.pop(address, None)
        self._bad_since[address] = now
        if len(self._bad_since) > MAX_REMEMBERED:
            del self._bad_since[next(iter(self._bad_since))]

    def worked(self, address: str) -> None:
        """A session came of this one."""
        self._bad_since.pop(address, None)

    def order(self, addresses: Sequence[str], now: float) -> list[str]:
        """The addresses in the order of attempts: those that failed last, the one that failed longest ago first."""
        since = {a: self._bad_since.get(a, float("-inf")) for a in addresses}
        return sorted(addresses, key=lambda a: since[a] if now - since[a] < BAD_SECONDS else float("-inf"))


def interleave(addresses: Iterable[str]) -> list[str]:
    """IPv6 and IPv4 by turns, the resolver's order kept within each, its first one first (RFC 8305 4)."""
    known = list(dict.fromkeys(addresses))
    six, four = [a for a in known if ":" in a], [a for a in known if ":" not in a]
    first, second = (six, four) if known and ":" in known[0] else (four, six)
    return [a for a in chain.from_iterable(zip_longest(first, second)) if a is not None]


async def connect_to(plan: Plan, address: str) -> Connected:
    """A TCP connection to one address, or to the plan's Unix socket. Raises SessionFailed."""
    loop = asyncio.get_running_loop()
    try:
        async with asyncio.timeout(plan.timeouts.connect):
            if plan.path:
                transport, wire = await loop.create_unix_connection(ClientProtocol, plan.path)
            else:
                transport, wire = await loop.create_connection(ClientProtocol, address, plan.port)
    except TimeoutError as error:
        text = f"no answer in {plan.timeouts.connect:g} s"
        raise _failed(plan, address, Cause.CONNECTION_TIMED_OUT, text) from error
    except OSError as error:
        # The system's words for it, without what asyncio writes before them.
        text = (os.strerror(error.errno) if error.errno else str(error)).lower()
        raise _failed(plan, address, _CAUSES.get(error.errno or 0, Cause.LOST), text) from error
    return address, wire, transport


def _failed(plan: Plan, address: str, cause: Cause, text: str) -> SessionFailed:
    return SessionFailed(Stage.CONNECT, cause, text, seen=SessionSeen(next_hop=plan.where, address=address))


async def race(plan: Plan, addresses: Sequence[str], failed: Callable[[SessionFailed], None]) -> Connected:
    """The first connection that one of `addresses` takes. `failed` is called for each that does not.

    Raises the failure of the last one when none does.
    """
    if len(addresses) == 1:
        try:
            return await connect_to(plan, addresses[0])
        except SessionFailed as failure:
            failed(failure)
            raise
    # RFC 8305 5: the next address is tried when the one before has not answered for a while, or has failed; the first
    # connection wins. A network that swallows IPv6 packets costs a fraction of a second then, and no whole timeout.
    # Whoever connects after that is dropped, also when it does so between `cancel` and the end of its task.
    waiting, running = deque(addresses), set[asyncio.Task[Connected]]()
    last: SessionFailed | None = None
    try:
        while waiting or running:
            if waiting:
                running.add(asyncio.create_task(connect_to(plan, waiting.popleft())))
            patience = STAGGER_SECONDS if waiting else None
            done, _ = await asyncio.wait(running, timeout=patience, return_when=asyncio.FIRST_COMPLETED)
            for task in done:
                if isinstance(error := task.exception(), SessionFailed):
                    running.discard(task)
                    last = error
                    failed(error)
            won = next((task for task in done if task in running), None)
            if won is not None:
                running.discard(won)
                return won.result()
    finally:
        for task in running:
            task.add_done_callback(_abandon)
            task.cancel()
    assert last is not None
    raise last


def _abandon(task: asyncio.Task[Connected]) -> None:
    """Drop a connection that another one was faster than."""
    if not task.cancelled() and task.exception() is None:
        _, _, transport = task.result()
        transport.abort()
