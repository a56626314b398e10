"""`kite queue rescue`: what could be read of a damaged queue, what is lost, and how to put the new one in its place."""

from __future__ import annotations

import shlex
import time
from pathlib import Path

from copper_kite.cli.output.show import echo, print_json, size
from copper_kite.errors import StoreError
from copper_kite.store import Lost, Rescued, StorePlace, id_text, open_store

__all__ = ["rescue_and_tell"]

SHOWN = 20  # lost messages, and places that could not be read


def rescue_and_tell(place: StorePlace, into: Path | None, *, anyway: bool, as_json: bool) -> int:
    """The exit status. Raises StoreError, FolderInUse."""
    folder = place.folder
    if not place.url and not folder.is_dir():
        raise StoreError(str(folder), "no queue here", "`kite serve` makes one")
    if not anyway and _is_sound(place):
        echo("The queue is sound: there is nothing to rescue. --anyway rebuilds it.")
        return 0
    into = into or folder.with_name(f"{folder.name}.rescued")
    result = open_store(place).rescue(into, time.time())
    if as_json:
        print_json(_json(result, into))
    else:
        _tell(result, folder, into)
    return 1 if result.lost or result.unsure else 0


def _is_sound(place: StorePlace) -> bool:
    try:
        return open_store(place).verify().sound
    except StoreError:
        return False


def _tell(rescued: Rescued, folder: Path, into: Path) -> None:
    for problem in rescued.unread[:SHOWN]:
        echo(f"not read: {problem}")
    if len(rescued.unread) > SHOWN:
        echo(f"… and {len(rescued.unread) - SHOWN} more places")
    for lost in rescued.lost[:SHOWN]:
        echo(f"lost: {_described(lost)}")
    if len(rescued.lost) > SHOWN:
        echo(f"… and {len(rescued.lost) - SHOWN} more messages; --json names all")
    if rescued.unsure:
        echo("There may have been more messages in what could not be read.")
    echo(
        f"{_messages(rescued.known)} as they were, {_messages(rescued.parked)} parked,"
        f" {_messages(len(rescued.lost))} lost" + f"; {_messages(rescued.ended)} had ended" * bool(rescued.ended)
    )
    if rescued.parked:
        echo("Of those that are parked, nothing on record says whether they were relayed. Look at them and decide:")
        echo("  kite queue list --state parked     kite queue release ID     kite queue remove ID")
    old, new = shlex.quote(str(folder)), shlex.quote(str(into))
    echo(f"The new queue is in {into}; what was recorded of the past stays in the old one. To put it in its place:")
    echo(f"  mv {old} {old}.damaged && mv {new} {old}")


def _messages(count: int) -> str:
    return f"{count} message{'s' * (count != 1)}"


def _described(lost: Lost) -> str:
    message = lost.message
    sender = f"{message.reverse_path or '<>'} ({size(message.size)})" if message is not None else "somebody"
    to = ", ".join(recipient.address for recipient in lost.recipients[:3]) + " …" * (len(lost.recipients) > 3)
    return f"{id_text(lost.id)} from {sender} to {to}: {lost.why}"


def _json(rescued: Rescued, into: Path) -> dict[str, object]:
    return {
        "into": str(into),
        "known": rescued.known,
        "parked": rescued.parked,
        "ended": rescued.ended,
        "unread": rescued.unread,
        "unsure": rescued.unsure,
        "lost": [
            {
                "id": id_text(lost.id),
                "from": lost.message.reverse_path if lost.message is not None else None,
                "to": [recipient.address for recipient in lost.recipients],
                "why": lost.why,
            }
            for lost in rescued.lost
        ],
    }
