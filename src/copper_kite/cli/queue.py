"""`kite queue list`."""

from __future__ import annotations

import time
from typing import TYPE_CHECKING

import click

from copper_kite.cli.options import json_option, load_settings
from copper_kite.cli.show import STATE_COLOURS, age, cut, json_time, print_json, print_table, size

if TYPE_CHECKING:
    from copper_kite.store.model import QueueRow

__all__ = ["queue", "show_queue"]


@click.group()
def queue() -> None:
    """What waits, and for what."""


@queue.command("list")
@click.option("--all", "everything", is_flag=True, help="Those that have ended, too.")
@click.option("--limit", type=click.IntRange(1), default=100, show_default=True, help="Lines at most.")
@json_option
@click.pass_obj
def list_queue(config: str | None, everything: bool, limit: int, as_json: bool) -> None:
    """One line for each recipient that waits, the oldest first.

    Works while the server runs and while it does not.
    """
    from copper_kite.store.reads import Reader
    from copper_kite.words import State

    loaded = load_settings(config)
    with Reader(loaded.data) as reader:
        states = tuple(State) if everything else (State.QUEUED, State.DELAYED, State.PARKED)
        rows = reader.queue(states, limit + 1)
    if as_json:
        print_json([_row_json(row) for row in rows[:limit]])
        return
    show_queue(rows[:limit], time.time())
    if len(rows) > limit:
        click.echo(f"… and more; --limit {limit * 10} shows more of them")


def show_queue(rows: list[QueueRow], now: float) -> None:
    """The queue as a table."""
    from copper_kite.store.ids import id_text

    if not rows:
        click.echo("Nothing waits.")
        return
    print_table(
        ("id", "age", "size", "state", "tries", "next", "from", "to", "last reply"),
        [
            (
                id_text(row.message.id),
                age(now - row.message.arrived),
                size(row.message.size),
                row.recipient.state.value,
                str(row.recipient.attempts),
                "-" if row.recipient.next_try is None else _until(row.recipient.next_try, now),
                cut(row.message.reverse_path or "<>", 11),
                cut(row.recipient.address, 20),
                row.recipient.reply,
            )
            for row in rows
        ],
        right=("age", "size", "tries", "next"),
        gap=1,
        colours=STATE_COLOURS,
    )


def _until(at: float, now: float) -> str:
    return age(at - now) if at > now + 0.5 else "now"


def _row_json(row: QueueRow) -> dict[str, object]:
    from copper_kite.store.ids import id_text

    message, recipient = row.message, row.recipient
    return {
        "id": id_text(message.id),
        "arrived": json_time(message.arrived),
        "expires": json_time(message.expires),
        "from": message.reverse_path,
        "to": recipient.address,
        "size": message.size,
        "state": recipient.state.value,
        "attempts": recipient.attempts,
        "next_try": json_time(recipient.next_try),
        "connector": recipient.connector or None,
        "last_reply": recipient.reply or None,
    }
