"""The wait before content is sent, where other servers may take over this server's messages."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Generator
from typing import Any

__all__ = ["LeasedContent"]

LOOK_AGAIN_SECONDS = 0.1  # while the lease is not sure


class LeasedContent:
    """What is awaited before content goes: the record of the message before, and a lease that surely holds."""

    def __init__(self, recorded: asyncio.Future[None] | None, may_send: Callable[[], bool]) -> None:
        self._recorded = recorded
        self._may_send = may_send

    def __await__(self) -> Generator[Any, None, None]:
        if self._recorded is not None:
            yield from self._recorded
        else:
            yield from asyncio.sleep(0).__await__()
        while not self._may_send():
            yield from asyncio.sleep(LOOK_AGAIN_SECONDS).__await__()
