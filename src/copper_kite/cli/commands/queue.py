"""`kite queue`."""

from __future__ import annotations

import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from copper_kite.cli.commands.queue_actions import make_action, redirect
from copper_kite.cli.commands.queue_move import move
from copper_kite.cli.commands.queue_watch import watch
from copper_kite.cli.output.queue_table import row_json, show_queue
from copper_kite.cli.output.show import (
    echo,
    print_json,
    size,
)
from copper_kite.cli.shared.completion import complete_ids
from copper_kite.cli.shared.options import drop_folder, json_option, queue_place
from copper_kite.cli.shared.selection import filters, selection

if TYPE_CHECKING:
    from copper_kite.store import QueueRow, Reader

__all__ = ["queue"]


@click.group(invoke_without_command=True)
@json_option
@click.pass_context
def queue(ctx: click.Context, as_json: bool) -> None:
    """Show what waits and why: without a command, a summary."""
    if ctx.invoked_subcommand is None:
        from copper_kite.cli.output.summary import show_summary

        show_summary(queue_place(ctx.obj), as_json=as_json)


for _action in ("retry", "park", "release", "remove", "return"):
    queue.add_command(make_action(_action))
queue.add_command(redirect)
queue.add_command(watch)
queue.add_command(move)


@queue.command("list")
@click.argument("ids", nargs=-1, metavar="[ID...]", shell_complete=complete_ids)
@filters
@click.option("--all", "everything", is_flag=True, help="Also list recipients that have ended.")
@click.option("--sort", type=click.Choice(["age", "size", "next", "tries"]), default="age", show_default=True)
@click.option("--limit", type=click.IntRange(1), default=100, show_default=True, help="Maximum number of lines.")
@json_option
@click.pass_obj
def list_queue(
    config: str | None, /, ids: tuple[str, ...], everything: bool, sort: str, limit: int, as_json: bool, **given: Any
) -> None:
    """List the recipients that wait, the oldest first.

    Works while the server runs and while it does not.
    """
    from copper_kite.store import dropped_names, open_store
    from copper_kite.words import State

    with open_store(queue_place(config)).reader() as reader:
        chosen = selection(reader, ids, given)
        if not chosen.states and (everything or ids):
            chosen = chosen._replace(states=tuple(State))
        rows = reader.select(chosen, limit + 1 if sort == "age" else -1)
    if sort != "age":
        rows.sort(key=_SORTS[sort])
    if as_json:
        print_json([row_json(row) for row in rows[:limit]])
        return
    show_queue(rows[:limit], time.time())
    if len(rows) > limit:
        echo(f"… and more; --limit {limit * 10} shows more of them")
    if not chosen.ids and (dropped := len(dropped_names(drop_folder(config)))):
        echo(f"{dropped} message{'s' * (dropped > 1)} in the drop folder, not taken up yet")


_SORTS: dict[str, Callable[[QueueRow], float]] = {
    "size": lambda row: -row.message.size,
    "next": lambda row: float("inf") if row.recipient.next_try is None else row.recipient.next_try,
    "tries": lambda row: -row.recipient.attempts,
}


@queue.command("verify")
@json_option
@click.pass_context
def verify_queue(ctx: click.Context, as_json: bool) -> None:
    """Check the integrity of the queue: the pages of the database and the checksums of all content.

    Works while the server runs and while it does not. Status 1 when something is damaged; a message whose content is
    waits by itself, and `kite trace` says so.
    """
    from copper_kite.store import id_text, open_store

    result = open_store(queue_place(ctx.obj)).verify()
    damaged = {id_text(id): problem for id, problem in sorted(result.messages.items())}
    if as_json:
        print_json(
            {
                "sound": result.sound,
                "portions": result.portions,
                "octets": result.octets,
                "database": result.database,
                "messages": [{"id": id, "problem": problem} for id, problem in damaged.items()],
            }
        )
    else:
        for problem in result.database:
            echo(f"database: {problem}")
        for id, problem in damaged.items():
            echo(f"{id}: {problem}")
        finding = "all is as it was written" if result.sound else "not all is as it was written"
        echo(f"{result.portions} portions of content, {size(result.octets)}, and the database: {finding}")
        if not result.sound:
            echo("`kite queue rescue` makes a sound queue of what can be read, while the server does not run")
    ctx.exit(0 if result.sound else 1)


@queue.command("rescue")
@click.option("--into", type=click.Path(path_type=Path), help="Folder for it.  [default: beside the old one]")
@click.option("--anyway", is_flag=True, help="Even if nothing is damaged.")
@json_option
@click.pass_context
def rescue_queue(ctx: click.Context, into: Path | None, anyway: bool, as_json: bool) -> None:
    """Rebuild a damaged queue from what can be read of its database and content; the server must be stopped.

    The old queue stays as it is. Messages of which nothing on record says whether they were relayed are parked, for
    you to decide. Status 1 when something is lost, or may be.
    """
    from copper_kite.cli.commands.queue_rescue import rescue_and_tell

    ctx.exit(rescue_and_tell(queue_place(ctx.obj), into, anyway=anyway, as_json=as_json))


@queue.command("show")
@click.argument("id", shell_complete=complete_ids)
@json_option
@click.pass_obj
def show_message(config: str | None, id: str, as_json: bool) -> None:
    """Show one message: its envelope, each recipient, each attempt, and its header."""
    from copper_kite.cli.output.summary import show_one

    show_one(queue_place(config), id, as_json=as_json)


@queue.command("raw")
@click.argument("id", shell_complete=complete_ids)
@click.pass_obj
def raw_message(config: str | None, id: str) -> None:
    """Print one message as it is stored, octet by octet, while it waits or has failed recently."""
    from copper_kite.store import open_store

    with open_store(queue_place(config)).reader() as reader:
        for portion in _content(reader, reader.resolve(id)):
            sys.stdout.buffer.write(portion)


@queue.command("export")
@click.argument("ids", nargs=-1, metavar="[ID...]", shell_complete=complete_ids)
@filters
@click.option(
    "--into",
    type=click.Path(path_type=Path),
    required=True,
    metavar="PATH",
    help="An .mbox file (RFC 4155) for all of them, or a folder for an .eml file of each.",
)
@click.pass_obj
def export_messages(config: str | None, /, ids: tuple[str, ...], into: Path, **given: Any) -> None:
    """Export messages as they are stored, selected by ID or filters."""
    from copper_kite.mail import mbox_entry
    from copper_kite.store import id_text, open_store
    from copper_kite.words import State

    with open_store(queue_place(config)).reader() as reader:
        chosen = selection(reader, ids, given)
        if ids and not chosen.states:
            chosen = chosen._replace(states=tuple(State))
        messages = {row.message.id: row.message for row in reader.select(chosen)}
        if into.suffix == ".mbox":
            with into.open("xb") as file:
                for message in messages.values():
                    content = b"".join(_content(reader, message.id))
                    file.write(mbox_entry(content, message.reverse_path, message.arrived))
        else:
            into.mkdir(parents=True, exist_ok=True)
            for message in messages.values():
                (into / f"{id_text(message.id)}.eml").write_bytes(b"".join(_content(reader, message.id)))
    echo(f"{len(messages)} message{'s' * (len(messages) != 1)} written to {into}")


def _content(reader: Reader, id: int) -> Iterator[bytes]:
    """A message's portions. Raises ContentGone."""
    from copper_kite.errors import ContentGone
    from copper_kite.store import id_text

    portions = reader.content(id)
    first = next(portions, None)
    if first is None:
        raise ContentGone(id_text(id))
    yield first
    yield from portions
