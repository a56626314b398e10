"""`kite demo`."""

from __future__ import annotations

import asyncio
import signal
import tempfile
import time
from pathlib import Path
from typing import TYPE_CHECKING

import click

from copper_kite.cli.commands.trace import show_story, story_of
from copper_kite.cli.output.queue_table import show_queue
from copper_kite.cli.output.show import echo, local_time, say

if TYPE_CHECKING:
    from copper_kite.demo import Demo, Moment
    from copper_kite.settings import Loaded

__all__ = ["demo"]

STORIES = (
    ("relayed", "A message that was relayed"),
    ("delayed", "A message that was delayed, and went at a later attempt"),
    ("failed", "A message that failed"),
)


@click.command()
@click.option("--seconds", type=click.FloatRange(3, 600), default=12, show_default=True, help="Length of the day.")
@click.option("--folder", metavar="FOLDER", help="Folder to keep everything in; by default a new one.")
@click.option("--hold", is_flag=True, help="Keep the server running after the day, to try commands on it.")
@click.option("--history", is_flag=True, help="Instead: write 60 days of made-up history, to try `kite report` on.")
@click.option(
    "--servers",
    type=click.IntRange(2, 9),
    metavar="COUNT",
    help="Instead: so many servers that share a queue in a PostgreSQL of their own; one is killed.",
)
def demo(seconds: float, folder: str | None, hold: bool, history: bool, servers: int | None) -> None:
    """Run a whole day of Tern Island Ferries in seconds, on this machine alone.

    Programs submit mail; a server keeps it and relays it over TLS with a login to two stand-in smart hosts; one
    recipient is refused, some are put off. At the end come the queue and three stories.
    """
    import uvloop

    from copper_kite.demo import Demo

    path = Path(folder or tempfile.mkdtemp(prefix="kite-demo-"))
    path.mkdir(parents=True, exist_ok=True)
    if (path / "kite.toml").exists():
        raise click.UsageError(f"{path} holds a configuration already; name a new folder")
    if history:
        _write_history(path.absolute())
        return
    if servers:
        from copper_kite.cli.commands.demo_servers import run_servers

        raise SystemExit(run_servers(path.absolute(), servers, seconds))
    say(("Tern Island Ferries", "bold"), f": the last 24 hours, in {seconds:g} seconds. All of it is in {path}")
    echo("\n           messages   recipients")
    echo("  time    submitted   relayed   delayed   failed   queued")
    asked = Demo(path.absolute(), seconds, _tell)
    uvloop.run(_run(asked, path / "kite.toml", hold))


def _write_history(folder: Path) -> None:
    from copper_kite.demo import make_history

    messages = make_history(folder, time.time())
    command = f"kite --config {folder / 'kite.toml'}"
    say(("Tern Island Ferries", "bold"), f": the last 60 days, {messages:,} messages. All of it is in {folder}")
    echo("In it: two outages, a script that somebody took over, a partner that greylists. Try:")
    for words in ("--month", "--day '8d ago'", "--week --connector harbour", "--month --verify"):
        echo(f"  {command} report {words}")


async def _run(asked: Demo, config: Path, hold: bool) -> None:
    told = asyncio.Event()
    for number in (signal.SIGTERM, signal.SIGINT):
        asyncio.get_running_loop().add_signal_handler(number, told.set)
    day = asyncio.ensure_future(asked.run(lambda loaded: _end(asked, loaded, config, hold), told if hold else None))
    stopped = asyncio.ensure_future(told.wait())
    await asyncio.wait((day, stopped), return_when=asyncio.FIRST_COMPLETED)
    if not day.done() and not hold:
        day.cancel()
    stopped.cancel()
    try:
        await day
    except asyncio.CancelledError:
        echo("stopped before the day was over", err=True)


def _tell(moment: Moment) -> None:
    counts = (moment.states.get(state, 0) for state in ("relayed", "delayed", "failed", "queued"))  # type: ignore[call-overload]
    relayed, delayed, failed, queued = counts
    at = time.strftime("%H:%M", time.localtime(moment.at))
    echo(f"  {at}  {moment.handed_in:>11}   {relayed:>7}   {delayed:>7}   {failed:>6}   {queued:>6}")


def _end(asked: Demo, loaded: Loaded, config: Path, hold: bool) -> None:
    from copper_kite.store import open_store

    with open_store(loaded.store).reader() as reader:
        _heading("What waits now (kite queue list)")
        show_queue(reader.queue(), time.time())
        for note, title in STORIES:
            _heading(f"{title} (kite trace ID)")
            show_story(story_of(loaded, reader, asked.stories[note]))
    echo()
    command = f"kite --config {config}"
    if hold:
        say((f"It keeps running (since {local_time(time.time())}); Ctrl-C ends it.", "bold"), " In another terminal:")
        port = loaded.settings.listener[0].bind[0].port
        echo(f"  {command} status")
        echo(f"  echo hello | {command} pipe ana.silva@passenger.example")
        echo(f"  {command} queue list --all")
        echo(f"  programs submit mail at 127.0.0.1:{port}")
    else:
        say(("The day is over.", "bold"), " Its queue can still be looked at:")
        echo(f"  {command} queue list --all")
        say("`kite demo --hold` keeps such a day running, so that commands can be tried on it.")


def _heading(text: str) -> None:
    echo()
    say((f"── {text} " + "─" * max(0, 96 - len(text)), "bold"))
