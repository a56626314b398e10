"""`kite alarm`."""

from __future__ import annotations

import time
from typing import TYPE_CHECKING

import click

from copper_kite.cli.output.show import age, echo, json_time, print_json, print_table
from copper_kite.cli.shared.completion import complete_names
from copper_kite.cli.shared.editing import make_family, near, plain_entry
from copper_kite.cli.shared.options import json_option, load_settings

if TYPE_CHECKING:
    from copper_kite.settings import Loaded

__all__ = ["alarm"]


def _breaks(loaded: Loaded, name: str) -> list[str]:
    entries = {entry.name: entry for entry in loaded.settings.alarm}
    if name not in entries:
        raise near(name, list(entries), "alarm")
    return [f"nobody would be told any more: {entries[name].when.replace('_', ' ')}"]


alarm = make_family("alarm", "Manage alarms: what is watched, and who is told.", _breaks)


@alarm.command("list")
@json_option
@click.pass_obj
def list_alarms(config: str | None, as_json: bool) -> None:
    """List all alarms, and which are raised now."""
    from copper_kite.store import read_alarms

    loaded, now = load_settings(config), time.time()
    raised = {item.name: item for item in read_alarms(loaded.data) if item.notified_at is not None}
    if as_json:
        results = [(plain_entry(entry), raised.get(entry.name)) for entry in loaded.settings.alarm]
        print_json(
            [{**entry, "raised_since": json_time(result.since) if result else None} for entry, result in results]
        )
        return
    print_table(
        ("name", "on", "when", "limit", "raised", "who is told"),
        [
            (
                entry.name,
                "yes" if entry.enabled else "no",
                entry.when.replace("_", " "),
                "" if entry.limit is None else str(entry.limit),
                age(now - raised[entry.name].since) if entry.name in raised else "no",
                ", ".join(filter(None, (entry.to, "its command" if entry.command else ""))),
            )
            for entry in loaded.settings.alarm
        ],
        wraps=True,
    )


@alarm.command("test")
@click.argument("name", shell_complete=complete_names("alarm"))
@click.pass_context
def test_alarm(ctx: click.Context, name: str) -> None:
    """Send a test event of an alarm from the running server, to see whether it arrives."""
    from copper_kite.cli.commands.pipe_command import local_user
    from copper_kite.cli.commands.queue_actions import ask_server
    from copper_kite.errors import InputError
    from copper_kite.store import AdminRequest, running_server
    from copper_kite.words import Action

    loaded = load_settings(ctx.obj)
    entry = next((entry for entry in loaded.settings.alarm if entry.name == name), None)
    if entry is None:
        raise near(name, [entry.name for entry in loaded.settings.alarm], "alarm")
    if not entry.enabled:
        raise InputError(f"the alarm is disabled; `kite alarm enable {name}` has it watched")
    running = running_server(loaded.data)
    if running is None:
        echo("no server runs now; `kite serve` starts one")
        ctx.exit(1)
    wanted = AdminRequest(0, time.time(), local_user(), Action.TEST_ALARM, 0, 0, name)
    echo(f"alarm {name}: {ask_server(loaded.store, running, [wanted])}")
    if entry.to:
        echo(f"its mail to {entry.to}: kite trace {entry.to}")
