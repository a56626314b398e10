"""`kite serve`."""

from __future__ import annotations

import asyncio
import contextlib
import gc
import signal
from typing import TYPE_CHECKING

import click

from copper_kite.cli.shared.options import load_settings
from copper_kite.errors import KiteError

if TYPE_CHECKING:
    from copper_kite.relay import Service
    from copper_kite.settings import Loaded

from copper_kite.cli.output.show import echo

__all__ = ["serve"]

AGAIN_SECONDS = 2.0  # from one try to reach the database of a shared queue to the next


@click.command()
@click.pass_obj
def serve(config: str | None) -> None:
    """Accept mail from programs and relay it, until stopped.

    Every message answered with 250 is on stable storage. SIGTERM and Ctrl-C finish what is in hand, within 10 s, and
    stop; what waits goes on at the next start. SIGHUP takes up the configuration as it is then; one that cannot be
    used is refused, and the server goes on as it was.
    """
    import uvloop

    for early in (signal.SIGHUP, signal.SIGUSR1):  # one that comes too early must not end it
        signal.signal(early, signal.SIG_IGN)
    loaded = load_settings(config, secrets=True)

    async def run() -> bool:
        told = asyncio.Event()
        loop = asyncio.get_running_loop()
        for number in (signal.SIGTERM, signal.SIGINT):
            loop.add_signal_handler(number, told.set)
        _keep_watchdog_quiet(loop)
        return await _Serving(config, loaded, told).run()

    if not uvloop.run(run()):
        raise SystemExit(1)


class _Serving:
    """The service of one process; where the queue is shared, one service after another."""

    def __init__(self, config: str | None, loaded: Loaded, told: asyncio.Event) -> None:
        self._config = config
        self._loaded = loaded
        self._told = told  # to stop
        self._one_at_a_time = asyncio.Lock()
        self._reloads: list[asyncio.Task[None]] = []

    async def run(self) -> bool:
        """Serve until told to stop; False where the queue was lost.

        A server that lost its part of a shared queue, since it was silent for too long, begins again as a new one.
        """
        from copper_kite.relay import Service, tell_manager

        service = await Service.start(self._loaded)
        self._say_what_is_served(service)
        gc.freeze()  # what is there now stays; and young objects mostly go by themselves
        gc.set_threshold(50_000, 20, 50)
        tell_manager("READY=1")
        while True:
            await _first_of(self._told, service.lost)
            if self._told.is_set() or not service.loaded.store.url:
                return await _stop(service)
            echo("others have taken over the mail of this server: it begins again", err=True)
            self._loaded = service.loaded
            await service.stop(0.5)
            again = await self._start_again()
            if again is None:
                return True
            service = again
            self._say_what_is_served(service)

    async def _start_again(self) -> Service | None:
        """Start as soon as the database can be used; None when told to stop before."""
        from copper_kite.errors import StoreAway
        from copper_kite.relay import Service

        while not self._told.is_set():
            try:
                return await Service.start(self._loaded)
            except StoreAway as error:
                echo(f"{error}", err=True)
                with contextlib.suppress(TimeoutError):
                    await asyncio.wait_for(self._told.wait(), AGAIN_SECONDS)
        return None

    def _say_what_is_served(self, service: Service) -> None:
        loaded = self._loaded
        for endpoint in service.endpoints:
            echo(f"listening on {endpoint}", err=True)
        if (monitored := loaded.settings.metrics.bind) is not None:
            echo(f"answering /metrics, /health and /live on {monitored}", err=True)
        loop = asyncio.get_running_loop()
        loop.add_signal_handler(signal.SIGHUP, lambda: self._reloads.append(loop.create_task(self._reload(service))))
        for connector in loaded.settings.connector:
            login = f", login by credential {connector.credential}" if connector.credential else ""
            echo(f"connector {connector.name} to {connector.where}, TLS {connector.tls}{login}", err=True)
        echo(f"{loaded.server_name} is serving; the queue is in {loaded.store}", err=True)

    async def _reload(self, service: Service) -> None:
        from copper_kite.relay import tell_manager

        async with self._one_at_a_time:
            tell_manager("RELOADING=1")
            try:
                settings = load_settings(self._config, secrets=True)
                await service.reload(settings)
                self._loaded = settings
                echo(f"{settings.path} taken up", err=True)
            except KiteError as error:
                service.refuse(error)
                echo(f"{self._loaded.path} refused; the server goes on as it was:\n{error}", err=True)
            tell_manager("READY=1")


def _keep_watchdog_quiet(loop: asyncio.AbstractEventLoop) -> None:
    """Tell the service manager again and again that the loop runs, where it wants to know (sd_notify(3))."""
    from copper_kite.relay import tell_manager, watch_interval

    interval = watch_interval()
    if interval is None:
        return

    def alive() -> None:
        tell_manager("WATCHDOG=1")
        loop.call_later(interval, alive)

    alive()


async def _first_of(*events: asyncio.Event) -> None:
    """Wait until one of them is set."""
    waits = [asyncio.ensure_future(event.wait()) for event in events]
    await asyncio.wait(waits, return_when=asyncio.FIRST_COMPLETED)
    for wait in waits:
        wait.cancel()


async def _stop(service: Service) -> bool:
    """End the service; False where the queue had been lost."""
    from copper_kite.relay import tell_manager

    tell_manager("STOPPING=1")
    if service.lost.is_set():
        echo("the queue cannot be written any more: nothing can be kept, so the server stops", err=True)
        await service.stop(0.5)  # what is in hand cannot be finished: its end could not be recorded
        return False
    echo("stopping", err=True)
    await service.stop()
    return True
