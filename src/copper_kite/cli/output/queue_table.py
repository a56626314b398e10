"""Recipients in the queue: as a table, and as JSON."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from copper_kite.cli.output.show import STATE_COLOURS, age, echo, json_time, print_table, recipient_json, size

if TYPE_CHECKING:
    from copper_kite.store import Message, QueueRow

__all__ = ["message_json", "row_json", "show_queue"]


def show_queue(rows: Sequence[QueueRow], now: float) -> None:
    """The queue as a table, with the priority where any message has another than normal."""
    from copper_kite.store import id_text
    from copper_kite.words import Priority

    if not rows:
        echo("Nothing waits.")
        return
    told = any(row.message.priority for row in rows)
    print_table(
        ("id", *["priority"] * told, "age", "size", "state", "tries", "next", "from", "to", "last reply"),
        [
            (
                id_text(row.message.id),
                *[Priority.of(row.message.priority).value] * told,
                age(now - row.message.arrived),
                size(row.message.size),
                row.recipient.state.value,
                str(row.recipient.attempts),
                "-" if row.recipient.next_try is None else _until(row.recipient.next_try, now),
                row.message.reverse_path or "<>",
                row.recipient.address,
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


def row_json(row: QueueRow) -> dict[str, Any]:
    """One recipient of one message, as JSON values."""
    return message_json(row.message) | recipient_json(row.recipient)


def message_json(message: Message) -> dict[str, Any]:
    """The JSON of a message that several commands print."""
    from copper_kite.store import id_text
    from copper_kite.words import Priority

    return {
        "id": id_text(message.id),
        "arrived": json_time(message.arrived),
        "expires": json_time(message.expires),
        "from": message.reverse_path,
        "size": message.size,
        "priority": Priority.of(message.priority).value,
    }
