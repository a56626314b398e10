"""Shell completion of names and keys of the configuration and ids of the queue, and its set-up for shells."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

import click

from copper_kite.cli.shared.options import load_settings, queue_place
from copper_kite.errors import KiteError

if TYPE_CHECKING:
    from click.shell_completion import CompletionItem
    from pydantic import BaseModel

__all__ = ["complete_ids", "complete_keys", "complete_names", "completion_files"]

MOST_IDS = 100  # the newest of the queue


def complete_names(table: str) -> Callable[..., list[CompletionItem]]:
    """Completion of the names of a table of the configuration."""

    def complete(ctx: click.Context, parameter: click.Parameter, incomplete: str) -> list[CompletionItem]:
        from click.shell_completion import CompletionItem

        try:
            loaded = load_settings(ctx.find_root().params.get("config"), secrets=table == "credential")
        except KiteError:
            return []
        names = loaded.credentials if table == "credential" else [x.name for x in getattr(loaded.settings, table)]
        return [CompletionItem(name) for name in names if name.startswith(incomplete)]

    return complete


def complete_keys(model: Callable[[], type[BaseModel]]) -> Callable[..., list[CompletionItem]]:
    """Completion of `key=` for the keys of a table."""

    def complete(ctx: click.Context, parameter: click.Parameter, incomplete: str) -> list[CompletionItem]:
        from click.shell_completion import CompletionItem

        return [CompletionItem(f"{key}=") for key in model().model_fields if key.startswith(incomplete)]

    return complete


def complete_ids(ctx: click.Context, parameter: click.Parameter, incomplete: str) -> list[CompletionItem]:
    """Completion of the ids of what waits, each with its recipient."""
    from click.shell_completion import CompletionItem

    from copper_kite.store import Selection, id_text, open_store
    from copper_kite.words import OPEN

    try:
        with open_store(queue_place(ctx.find_root().params.get("config"))).reader() as reader:
            rows = reader.select(Selection(states=tuple(OPEN)), MOST_IDS, newest=True)
    except KiteError:
        return []
    results = {id_text(row.message.id): row.recipient.address for row in rows}
    return [CompletionItem(id, help=to) for id, to in results.items() if id.startswith(incomplete.upper())]


_PLACES = {  # below the share folder, where each shell looks by itself
    "bash": "bash-completion/completions/kite",
    "zsh": "zsh/site-functions/_kite",
    "fish": "fish/vendor_completions.d/kite.fish",
}


def completion_files(share: Path, command: click.Command) -> dict[Path, str]:
    """The file that each shell reads, and what is in it."""
    from click.shell_completion import get_completion_class

    files = {}
    for shell, place in _PLACES.items():
        of_shell = get_completion_class(shell)
        if of_shell is not None:
            maker = of_shell(command, {}, "kite", "_KITE_COMPLETE")
            files[share / place] = maker.source_template % maker.source_vars()  # source() asks an installed shell first
    return files
