"""`kite queue move`: a queue from the data folder into the database that servers share, and back."""

from __future__ import annotations

import time
from dataclasses import replace

import click

from copper_kite.cli.output.show import echo
from copper_kite.cli.shared.options import load_settings

__all__ = ["move"]


@click.command("move")
@click.option(
    "--to-store",
    is_flag=False,
    flag_value="",
    default=None,
    metavar="[URL]",
    help="Into this database, postgresql://user@host/database.  [default: that of [server] store]",
)
@click.option("--to-folder", is_flag=True, help="Back from the database into the data folder.")
@click.pass_obj
def move(config: str | None, to_store: str | None, to_folder: bool) -> None:
    """Move what waits into the PostgreSQL database of a shared queue, or back; the server must be stopped.

    Each message is written there before it is forgotten here, with its story. A move that was cut off is carried on by
    the same command; nothing is sent twice.
    """
    from copper_kite.errors import InputError
    from copper_kite.relay import move_queue
    from copper_kite.store import StorePlace, parse_store_url

    if (to_store is None) is not to_folder:
        raise click.UsageError("say where to: --to-store or --to-folder")
    loaded = load_settings(config, secrets=True)
    shared = replace(loaded.store, server=loaded.server_name)
    if to_store:
        try:
            parse_store_url(to_store)
        except ValueError as error:
            raise InputError(f"--to-store: {error}") from error
        shared = replace(shared, url=to_store)
    if not shared.url:
        raise InputError("there is no database to move to or from: name it, here or as [server] store")
    folder = StorePlace(loaded.data, server=loaded.server_name)
    source, target = (shared, folder) if to_folder else (folder, shared)
    moved = move_queue(source, target, time.time())
    again = f" ({moved.before} of them had been written there before)" if moved.before else ""
    echo(f"{moved.messages} message{'s' * (moved.messages != 1)} moved from {source} to {target}{again}")
    if not loaded.settings.server.store and not to_folder:
        echo(f'write it into the configuration before the server starts: [server] store = "{to_store}"')
    elif to_folder and loaded.settings.server.store:
        echo("take [server] store out of the configuration before the server starts")
