"""`kite listener`."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from copper_kite.cli.commands.record import add_record
from copper_kite.cli.output.show import print_json, print_table, size
from copper_kite.cli.shared.editing import make_family, near, plain_entry
from copper_kite.cli.shared.options import json_option, load_settings

if TYPE_CHECKING:
    from copper_kite.settings import Loaded

__all__ = ["listener"]


def _breaks(loaded: Loaded, name: str) -> list[str]:
    entries = {entry.name: entry for entry in loaded.settings.listener}
    if name not in entries:
        raise near(name, list(entries), "listener")
    lines = [f"programs that use {endpoint} would no longer be heard" for endpoint in entries[name].bind]
    left = [endpoint for other in loaded.settings.listener if other.name != name for endpoint in other.bind]
    if any(endpoint.path for endpoint in entries[name].bind) and not any(endpoint.path for endpoint in left):
        lines.append("`kite pipe` would find no Unix socket")
    return lines


listener = make_family("listener", "Manage where programs submit mail, and which clients may.", _breaks)
add_record(listener, "listener")


@listener.command("list")
@json_option
@click.pass_obj
def list_listeners(config: str | None, as_json: bool) -> None:
    """List all listeners."""
    loaded = load_settings(config)
    if as_json:
        print_json([plain_entry(entry) for entry in loaded.settings.listener])
        return
    print_table(
        ("name", "on", "TLS", "largest", "who may", "addresses"),
        [
            (
                entry.name,
                "yes" if entry.enabled else "no",
                entry.tls,
                size(entry.max_size),
                ", ".join(map(str, entry.allow)) or "nobody",
                ", ".join(map(str, entry.bind)),
            )
            for entry in loaded.settings.listener
        ],
        right=("largest",),
        wraps=True,
    )
