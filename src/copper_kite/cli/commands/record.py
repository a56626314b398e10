"""`kite connector record` and `kite listener record`."""

from __future__ import annotations

import time
from typing import TYPE_CHECKING

import click

from copper_kite.cli.output.show import echo, local_time
from copper_kite.cli.shared.completion import complete_names
from copper_kite.cli.shared.editing import near
from copper_kite.cli.shared.options import DURATION, load_settings

if TYPE_CHECKING:
    from copper_kite.settings import Loaded

__all__ = ["add_record"]


def add_record(family: click.Group, table: str) -> None:
    """Give the family of a table its `record` command."""

    @family.command("record", help=_HELP[table])
    @click.argument("name", shell_complete=complete_names(table))
    @click.option("--for", "seconds", type=DURATION, metavar="TIME", default="1h", show_default=True, help="Duration.")
    @click.option("--stop", is_flag=True, help="Stop recording.")
    @click.pass_obj
    def record(config: str | None, name: str, seconds: float, stop: bool) -> None:
        loaded = load_settings(config)
        names = [entry.name for entry in getattr(loaded.settings, table)]
        if name not in names:
            raise near(name, names, table)
        _record(loaded, table, name, None if stop else time.time() + seconds)


_HELP = {
    "connector": "Also record the dialogues of successful sessions for a while; secrets are masked.\n\n"
    "`kite trace ID --dialogue` shows a message's, and `kite log search --dialogue WORDS` finds lines in them.",
    "listener": "Record the dialogues of programs' sessions for a while, without content; secrets are masked.\n\n"
    "`kite trace ID --dialogue` shows a message's, and `kite log search --dialogue WORDS` finds lines in them.",
}


def _record(loaded: Loaded, table: str, name: str, until: float | None) -> None:
    """Make the server record until an instant; None: stop."""
    from copper_kite.cli.commands.queue_actions import tell_server
    from copper_kite.errors import StoreError
    from copper_kite.store import Recording, read_recordings, running_server, write_recordings

    others = [
        recording
        for recording in read_recordings(loaded.data, time.time())
        if (recording.table, recording.name) != (table, name)
    ]
    wanted = [] if until is None else [Recording(table, name, until)]
    try:
        write_recordings(loaded.data, [*others, *wanted])
    except OSError as error:
        reason = f"cannot be written to ({error.strerror})"
        raise StoreError(str(loaded.data), reason, "run as the server's user") from error
    running = running_server(loaded.data)
    tells = running is not None and tell_server(running)
    if until is None:
        echo(f"the dialogues of {table} {name} are no longer recorded")
        return
    said = "" if tells else "; no server runs now"
    echo(f"the dialogues of {table} {name} are recorded until {local_time(until)}{said}")
    echo("kite trace ID --dialogue shows those of a message; kite log search --dialogue WORDS finds lines in them")
