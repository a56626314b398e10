"""`kite serve`."""

from __future__ import annotations

import asyncio
import gc
import signal
from typing import TYPE_CHECKING

import click

from copper_kite.cli.shared.options import load_settings
from copper_kite.errors import KiteError

if TYPE_CHECKING:
    from copper_kite.relay import Service

from copper_kite.cli.output.show import echo

__all__ = ["serve"]


@click.command()
@click.pass_obj
def serve(config: str | None) -> None:
    """Accept mail from programs and relay it, until stopped.

    Every message answered with 250 is on stable storage. SIGTERM and Ctrl-C finish what is in hand, within 10 s, and
    stop; what waits goes on at the next start. SIGHUP takes up the configuration as it is then; one that cannot be
    used is refused, and the server goes on as it was.
    """
    import uvloop

    from copper_kite.relay import tell_manager

    for early in (signal.SIGHUP, signal.SIGUSR1):  # one that comes too early must not end it
        signal.signal(early, signal.SIG_IGN)
    loaded = load_settings(config, secrets=True)
    one_at_a_time = asyncio.Lock()

    async def reload(service: Service) -> None:
        async with one_at_a_time:
            tell_manager("RELOADING=1")
            try:
                settings = load_settings(config, secrets=True)
                await service.reload(settings)
                echo(f"{settings.path} taken up", err=True)
            except KiteError as error:
                service.refuse(error)
                echo(f"{loaded.path} refused; the server goes on as it was:\n{error}", err=True)
            tell_manager("READY=1")

    async def run() -> bool:
        from copper_kite.relay import Service

        loop = asyncio.get_running_loop()
        told = asyncio.Event()
        reloads: list[asyncio.Task[None]] = []
        for number in (signal.SIGTERM, signal.SIGINT):
            loop.add_signal_handler(number, told.set)
        service = await Service.start(loaded)
        for endpoint in service.endpoints:
            echo(f"listening on {endpoint}", err=True)
        if (monitored := loaded.settings.metrics.bind) is not None:
            echo(f"answering /metrics, /health and /live on {monitored}", err=True)
        loop.add_signal_handler(signal.SIGHUP, lambda: reloads.append(loop.create_task(reload(service))))
        for connector in loaded.settings.connector:
            login = f", login by credential {connector.credential}" if connector.credential else ""
            echo(f"connector {connector.name} to {connector.where}, TLS {connector.tls}{login}", err=True)
        gc.freeze()  # what is there now stays; and young objects mostly go by themselves
        gc.set_threshold(50_000, 20, 50)
        echo(f"{loaded.server_name} is serving; the queue is in {loaded.data}", err=True)
        tell_manager("READY=1")
        _keep_watchdog_quiet(loop)
        await _first_of(told, service.lost)
        return await _stop(service)

    if not uvloop.run(run()):
        raise SystemExit(1)


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
