"""The recipients that a command selects: by ids or filters, the same for lists and for actions."""

from __future__ import annotations

import contextlib
import time
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

import click

from copper_kite.cli.shared.options import DURATION, SIZE, options_of

if TYPE_CHECKING:
    from copper_kite.store import Reader, Selection

__all__ = ["filters", "selection"]

STATES = ("queued", "delayed", "parked", "relayed", "failed", "removed")
_OPTIONS = (
    click.option(
        "--state", "states", type=click.Choice(STATES), multiple=True, help="Recipients in this state; may be repeated."
    ),
    click.option("--to", metavar="PATTERN", default="", help="Recipient: an address, a domain, or *.domain."),
    click.option("--from", "sender", metavar="PATTERN", default="", help="Sender: an address, a domain, or *.domain."),
    click.option("--connector", metavar="NAME", default="", help="Carried by this connector."),
    click.option("--next-hop", metavar="TEXT", default="", help="Last tried with a next hop whose name contains this."),
    click.option("--subject", metavar="TEXT", default="", help="Subject contains this."),
    click.option("--reason", metavar="TEXT", default="", help="Last reply contains this: a code, or words."),
    click.option("--who", metavar="NAME", default="", help="Submitted by this account, local user or client address."),
    click.option("--older", type=DURATION, metavar="DURATION", help="Accepted at least this long ago."),
    click.option("--larger", type=SIZE, metavar="SIZE", help="At least this size."),
)


filters = options_of(_OPTIONS)  # the options that narrow a list, or what is done


def selection(reader: Reader, ids: Sequence[str], given: Mapping[str, Any]) -> Selection:
    """Resolve options and ids, or beginnings of ids. Raises NotFound and Ambiguous."""
    from copper_kite.store import Selection
    from copper_kite.words import State

    older = given["older"]
    if given["connector"]:
        _demand_connector(reader, given["connector"])
    return Selection(
        ids=[reader.resolve(id) for id in ids],
        states=[State(state) for state in given["states"]],
        to=given["to"],
        sender=given["sender"],
        connector=given["connector"],
        next_hop=given["next_hop"],
        subject=given["subject"],
        reason=given["reason"],
        who=given["who"],
        older=None if older is None else time.time() - older,
        larger=given["larger"],
    )


def _demand_connector(reader: Reader, name: str) -> None:
    """A name that no connector has, and never had, is a slip. Raises InputError with the nearest."""
    from copper_kite.cli.shared.editing import near
    from copper_kite.errors import SettingsError
    from copper_kite.settings import find_file, sketch

    known = [state.name for state in reader.connectors()] + [group.name for group in reader.groups("connector")]
    with contextlib.suppress(SettingsError):
        config = click.get_current_context().find_root().params.get("config")
        known += [entry.name for entry in sketch(find_file(config)).connectors]
    if name not in known:
        raise near(name, sorted(filter(None, set(known))), "connector")
