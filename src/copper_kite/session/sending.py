"""Many test messages through one plan: so many, at such a rate, over so many sessions."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

from copper_kite.net import Dialogue, Plan, RelaySession, SessionFailed, open_session
from copper_kite.session.probe import Letter
from copper_kite.smtp import Result

__all__ = ["Sent", "send_many"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Sent:
    """The result of one message: the reply for each recipient, or the failure of the session. `number` from 1."""

    number: int
    seconds: float
    results: Sequence[Result] = ()
    failure: SessionFailed | None = None

    @property
    def taken(self) -> bool:
        """Whether it was taken for all its recipients."""
        return self.failure is None and all(result.reply.positive for result in self.results)


async def send_many(
    plan: Plan,
    letter: Callable[[int], Letter],
    count: int,
    *,
    rate: float | None,
    sessions: int,
    told: Callable[[Sent], None],
) -> None:
    """Send messages 1 to `count`, at most `rate` a second, over `sessions` at a time; `told` is called for each.

    A session that breaks costs its message, and another one is opened for the next.
    """
    numbers = iter(range(1, count + 1))
    start = asyncio.get_running_loop().time()
    workers = [_work(plan, letter, numbers, start, rate, told) for _ in range(min(sessions, count))]
    await asyncio.gather(*workers)


async def _work(
    plan: Plan,
    letter: Callable[[int], Letter],
    numbers: Iterator[int],
    start: float,
    rate: float | None,
    told: Callable[[Sent], None],
) -> None:
    loop = asyncio.get_running_loop()
    session: RelaySession | None = None
    for number in numbers:
        if rate is not None:
            await asyncio.sleep(max(start + (number - 1) / rate - loop.time(), 0))
        began = loop.time()
        try:
            if session is None or not session.usable:
                session = await open_session(plan, Dialogue(began))
            mark = session.dialogue.mark()
            result = letter(number)
            assert result.content is not None
            content = result.content
            results = await session.relay(result.envelope, lambda content=content: (content,))  # type: ignore[misc]
            session.dialogue.cut(mark)
            told(Sent(number=number, seconds=loop.time() - began, results=results))
        except SessionFailed as failure:
            if session is not None:
                session.abort()
            session = None
            told(Sent(number=number, seconds=loop.time() - began, failure=failure))
    if session is not None:
        await session.close()
