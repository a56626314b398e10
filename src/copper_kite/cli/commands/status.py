"""`kite status`."""

from __future__ import annotations

import time
from typing import TYPE_CHECKING

import click

from copper_kite.cli.output.show import local_time, print_json
from copper_kite.cli.output.status_screen import ServerStatus, show_brief, show_status, status_json
from copper_kite.cli.shared.options import json_option, load_settings

if TYPE_CHECKING:
    from copper_kite.monitoring import Disk
    from copper_kite.settings import Loaded
    from copper_kite.store import Note

__all__ = ["status"]


@click.command()
@json_option
@click.option("--brief", is_flag=True, help="One line.")
@click.pass_context
def status(ctx: click.Context, as_json: bool, brief: bool) -> None:
    """Show whether mail is flowing: problems, the last hour and day in numbers, the queue, the connectors.

    Exit 0 when the server runs, 1 when it does not, or not with the configuration that is in the file, or has no room
    left, or while an alarm is raised.
    """
    server = _gather(ctx.obj)
    if as_json:
        print_json(status_json(server))
    elif brief:
        show_brief(server)
    else:
        show_status(server)
    ctx.exit(0 if server.running and not server.problems and not server.alarms else 1)


def _gather(config: str | None) -> ServerStatus:
    """Collect the status. Raises SettingsError, StoreError."""
    from copper_kite.cli.commands.connector import allowances_used
    from copper_kite.errors import StoreError
    from copper_kite.monitoring import disk_of
    from copper_kite.store import (
        dropped_names,
        open_store,
        read_alarms,
        read_live,
        read_note,
        read_recordings,
        running_server,
    )
    from copper_kite.trace import DAY, flow_of

    now = time.time()
    loaded, told = _settings(config)
    running = running_server(loaded.data)
    if running is not None:
        told = told or _told_by(read_note(loaded.data), loaded)
    server = ServerStatus(
        loaded,
        now,
        running,
        lanes=read_live(loaded.data) if running is not None else [],
        dropped=len(dropped_names(loaded.drop)),
        recordings=read_recordings(loaded.data, now),
        allowances=allowances_used(loaded),
        disk=disk_of(loaded),
        alarms=[alarm for alarm in read_alarms(loaded.data) if alarm.notified_at is not None],
    )
    if server.disk is not None and server.disk.short:
        told = [*told, _short_of_room(loaded, server.disk)]
    server.problems = told
    try:
        with open_store(loaded.store).reader() as reader:
            server.summary, server.known = reader.summary(), {state.name: state for state in reader.connectors()}
            server.stops, server.faults = reader.lanes(), reader.held_by_faults()
            server.servers = reader.servers()
            server.flow, server.octets = flow_of(reader.tallies(now - DAY), now), reader.size()
    except StoreError as error:
        if loaded.store.url:
            server.problems = [*told, str(error)]
        elif (loaded.data / "queue.sqlite").exists():
            raise
    return server


def _settings(config: str | None) -> tuple[Loaded, list[str]]:
    """The configuration; when the file cannot be used, the one that the server goes by, and what is to be told.

    Raises SettingsError when no server runs that could go on with another one.
    """
    from copper_kite.errors import SettingsError
    from copper_kite.settings import data_folder_of, find_config, load_source
    from copper_kite.store import read_note, running_server

    try:
        return load_settings(config), []
    except SettingsError as error:
        path = find_config(config)
        folder = data_folder_of(path)
        note = read_note(folder) if folder is not None and running_server(folder) else None
        if note is None:
            raise
        lines = str(error).splitlines()
        head = f"{path} cannot be used as it is now; the server goes on with that of {local_time(note.taken_at)}:"
        return load_source(path, note.source, secrets=False), [head, *(f"  {line}" for line in lines)]


def _short_of_room(loaded: Loaded, disk: Disk) -> str:
    from copper_kite.cli.output.show import size

    left = f"{size(disk.free)} left, and {size(disk.keep_free)} are to stay free"
    return f"the disk of {loaded.data} has {left}: nothing is taken in"


def _told_by(note: Note | None, loaded: Loaded) -> list[str]:
    """The running server's problems with its configuration."""
    if note is None:
        return []
    if (refused_at := note.newer_refused_at) is not None:
        head = (
            f"the server refused {loaded.path} at {local_time(refused_at)} and goes on with that of"
            f" {local_time(note.taken_at)}:"
        )
        return [head, *(f"  {problem}" for problem in note.problems)]
    if note.source != loaded.source:
        return [f"{loaded.path} has changed since the server read it; `kite config reload` has it taken up"]
    return list(note.problems)
