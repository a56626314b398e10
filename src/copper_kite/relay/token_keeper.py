"""Keeps the access tokens of connectors fresh while the server runs, so that no message waits for one."""

from __future__ import annotations

import asyncio
from collections.abc import Iterable

from copper_kite.clock import Clock
from copper_kite.net import TokenFailed, TokenSource, token_source
from copper_kite.relay.log import Log
from copper_kite.settings import Loaded

__all__ = ["TokenKeeper"]

AGAIN_SECONDS = 60.0  # after a renewal that failed; each failure in a row doubles it
LONGEST_SECONDS = 3600.0


class TokenKeeper:
    """Renews the tokens of the credentials in use, each before it ends."""

    def __init__(self, clock: Clock, log: Log) -> None:
        self._clock = clock
        self._log = log
        self._tasks: dict[TokenSource, asyncio.Task[None]] = {}

    def take_up(self, loaded: Loaded) -> None:
        """Keep those that the connectors of a configuration log in with."""
        names = {entry.credential for entry in loaded.settings.connector if entry.enabled and entry.credential}
        wanted = [
            token_source(credential.oauth, loaded.data)
            for name in names
            if (credential := loaded.credentials.get(name)) is not None and credential.oauth is not None
        ]
        self._keep(wanted)

    def stop(self) -> None:
        """Renew no more."""
        self._keep(())

    def _keep(self, wanted: Iterable[TokenSource]) -> None:
        wanted = set(wanted)
        for source in self._tasks.keys() - wanted:
            self._tasks.pop(source).cancel()
        for source in wanted - self._tasks.keys():
            source.now = self._clock.now
            self._tasks[source] = asyncio.get_running_loop().create_task(self._renew(source))

    async def _renew(self, source: TokenSource) -> None:
        failures = 0
        while True:
            await asyncio.sleep(self._clock.real_delay(source.renew_at))
            if self._clock.now() < source.renew_at:
                continue  # somebody else renewed it
            try:
                await source.renew()
                failures = 0
            except TokenFailed as failure:
                self._log.write("error", "token", credential=source.client.name, text=str(failure))
                failures += 1
                await asyncio.sleep(min(AGAIN_SECONDS * 2 ** (failures - 1), LONGEST_SECONDS))
