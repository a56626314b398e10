"""`kite help`."""

from __future__ import annotations

import shutil
import sys

import click

from copper_kite.cli.output.show import PROSE, echo
from copper_kite.errors import InputError

__all__ = ["help"]


@click.command()
@click.argument("topic", required=False)
@click.argument("words", nargs=-1)
@click.pass_context
def help(ctx: click.Context, topic: str | None, words: tuple[str, ...]) -> None:
    """Show a page of the documentation, or its parts about WORDS; no network is needed.

    As in: kite help configuration connector.hosts; kite help causes wrong password; kite help backup. Without a TOPIC,
    the list of them. The name of a command shows that command's --help.
    """
    from copper_kite.cli.output.pages import TOPICS, as_text, page_text, read_page, sections

    commands = ctx.find_root().command
    assert isinstance(commands, click.Group)
    if topic is None:
        width = max(map(len, TOPICS))
        for name, about in TOPICS.items():
            echo(f"{name:{width}}  {about}")
        echo(f"{'COMMAND':{width}}  Its options; `kite --help` lists the commands.")
        return
    if topic not in TOPICS:
        _show_command(ctx, commands, topic, words)
        return
    blocks = read_page(page_text(topic))
    if words:
        blocks = sections(blocks, words)
        if not blocks:
            raise InputError(f"the page {topic!r} has no {' '.join(words)!r}; `kite help {topic}` shows all of it")
    columns = shutil.get_terminal_size().columns
    text = as_text(blocks, min(columns, PROSE))
    if sys.stdout.isatty():
        click.echo_via_pager(text)
    else:
        echo(text, nl=False)


def _show_command(ctx: click.Context, commands: click.Group, topic: str, words: tuple[str, ...]) -> None:
    """The --help of a command, found by its path. Raises InputError for what is none."""
    command: click.Command | None = commands
    within = ctx.find_root()
    for name in (topic, *words):
        command = command.get_command(within, name) if isinstance(command, click.Group) else None
        if command is None:
            raise InputError(f"no topic and no command {name!r}; `kite help` lists the topics", usage=True)
        within = click.Context(command, parent=within, info_name=name)
    echo(within.get_help())
