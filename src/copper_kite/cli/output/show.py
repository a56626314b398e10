"""Values as text, tables and JSON. What a peer said is shown escaped; colour is never the only sign."""

from __future__ import annotations

import json
import math
import os
import re
import time
from collections.abc import Iterable, Mapping, Sequence
from datetime import UTC, datetime
from types import MappingProxyType
from typing import TYPE_CHECKING, Any

import click

from copper_kite.cli.output.typed_commands import typed
from copper_kite.clock import span_text
from copper_kite.smtp import visible

if TYPE_CHECKING:
    from rich.console import Console, RenderableType

    from copper_kite.store import LaneStop, Recipient
    from copper_kite.verdict import Verdict

__all__ = [
    "STATE_COLOURS",
    "age",
    "console",
    "cut",
    "echo",
    "json_text",
    "json_time",
    "local_time",
    "local_times",
    "print_json",
    "print_table",
    "print_verdict",
    "recipient_json",
    "say",
    "short_address",
    "size",
    "stop_json",
    "verdict_json",
]

PROSE = 100  # columns of a paragraph at most: longer lines are hard to read
NARROWEST = 60  # columns that a terminal counts as having
MIN_LAST = 16  # columns that the last one keeps, whatever the others take
_STEERING = re.compile(  # C1, DEL, marks of direction, separators of lines, and halves of characters
    "[\x7f-\x9f\u061c\u200b-\u200f\u2028-\u202e\u2060-\u206f\ufeff\ud800-\udfff\ufff9-\ufffb\U000e0000-\U000e007f]"
)
STATE_COLOURS = {"relayed": "green", "delayed": "yellow", "failed": "red", "queued": "cyan", "parked": "magenta"}


def size(octets: int) -> str:
    """Octets as people read them."""
    if octets < 1024:
        return f"{octets} B"
    power = min((octets.bit_length() - 1) // 10, 3)
    return f"{octets / 1024**power:.1f} {('KiB', 'MiB', 'GiB')[power - 1]}"


def age(seconds: float) -> str:
    """A span in its two largest units."""
    return span_text(seconds)


def local_time(at: float, now: float | None = None) -> str:
    """The local time, with the date when it is not today's."""
    return local_times([at], now)[0]


def local_times(instants: Sequence[float], now: float | None = None) -> list[str]:
    """Local times, all with the date unless all are of today."""
    today = time.localtime(time.time() if now is None else now)[:3]
    parts = [time.localtime(at) for at in instants]
    form = "%H:%M:%S" if all(part[:3] == today for part in parts) else "%m-%d %H:%M:%S"
    return [time.strftime(form, part) for part in parts]


def json_time(at: float | None) -> str | None:
    """RFC 3339 with zone."""
    return None if at is None else datetime.fromtimestamp(at, UTC).isoformat(timespec="milliseconds")


def cut(text: str, width: int) -> str:
    """`text` in at most `width` columns, with … where something is missing."""
    return text if len(text) <= width else text[: max(width - 1, 0)] + "…"


def console() -> Console:
    """The console for all text output: colour only on a terminal, none with NO_COLOR, in the terminal's width."""
    from rich.console import Console

    result = Console(highlight=False, markup=False, emoji=False, soft_wrap=False)
    result.width = max(result.width, NARROWEST) if result.is_terminal else _plain_width() or PROSE
    return result


def _plain_width() -> int:
    """The columns where no terminal is: those that $KITE_COLUMNS asks for; else 0, for as many as it takes."""
    asked = os.environ.get("KITE_COLUMNS", "")
    return max(int(asked), NARROWEST) if asked.isdigit() else 0


def _print(renderable: RenderableType, width: int | None = None) -> None:
    """Onto the terminal as it is; elsewhere without the blanks that fill the lines. A paragraph without `width`."""
    where = console()
    where.width = min(where.width, PROSE) if width is None else width
    if where.is_terminal:
        where.print(renderable)
        return
    with where.capture() as captured:
        where.print(renderable)
    click.echo("\n".join(line.rstrip() for line in captured.get().splitlines()))


def say(*parts: str | tuple[str, str], indent: int = 0) -> None:
    """Print a paragraph of parts, some as (text, style); wrapped lines begin at `indent`."""
    from rich.padding import Padding
    from rich.text import Text

    text = Text.assemble(
        *((visible(part), "") if isinstance(part, str) else (visible(part[0]), part[1]) for part in parts)
    )
    _print(Padding(text, (0, 0, 0, indent)) if indent else text)


def echo(text: object = "", *, nl: bool = True, err: bool = False) -> None:
    """Lines of text onto standard output, or error; whatever could steer a terminal in them is shown as an escape."""
    lines = [visible(part) for part in str(text).split("\n")]
    click.echo("\n".join(lines), nl=nl, err=err)


def print_json(value: object) -> None:
    """Print one JSON document."""
    click.echo(json_text(value, indent=2))


def json_text(value: object, indent: int | None = None) -> str:
    """JSON with letters of all scripts as they are, and what could steer a terminal escaped, as strings may have it."""
    text = json.dumps(value, indent=indent, ensure_ascii=False)
    return _STEERING.sub(lambda match: json.dumps(match[0])[1:-1], text)


def print_table(
    columns: Sequence[str],
    rows: Iterable[Sequence[str]],
    *,
    right: Sequence[str] = (),
    wraps: bool = False,
    gap: int = 2,
    colours: Mapping[str, str] = MappingProxyType({}),
) -> None:
    """Aligned columns in the terminal's width: the last column gives way, cut or (`wraps`) wrapped; then the widest.

    Where no terminal is, nothing is cut. A cell whose text is a key of `colours` gets that colour.
    """
    from rich.table import Table
    from rich.text import Text

    cells = [list(row) for row in rows]
    table = Table(box=None, pad_edge=False, padding=(0, gap, 0, 0), header_style="bold")
    wanted = [max(map(len, column)) for column in zip(columns, *cells, strict=True)]
    widths = list(wanted)
    where = console()
    whole = sum(widths) + gap * len(widths)
    full = where.width if where.is_terminal else _plain_width() or whole
    wraps = wraps or not where.is_terminal
    room = full - gap * (len(widths) - 1)
    widths[-1] = min(widths[-1], max(room - sum(widths[:-1]), MIN_LAST))
    least = [_least(column, name, wraps=wraps) for name, *column in zip(columns, *cells, strict=True)]
    least[-1] = max(least[-1], min(MIN_LAST, wanted[-1]))
    scant = [kept if name in KEPT_WHOLE else SCANT for name, kept in zip(columns, least, strict=True)]
    sender_first = [kept if name == "from" else width for name, kept, width in zip(columns, least, widths, strict=True)]
    for kept in (sender_first, least, scant, [1] * len(widths)):  # what must be readable gives way last
        _narrow(widths, kept, room)
    folds = [wraps and width < full for width, full in zip(widths, wanted, strict=True)]
    for column, width, wrapped in zip(columns, widths, folds, strict=True):
        table.add_column(
            column,
            justify="right" if column in right else "left",
            width=width,
            no_wrap=not wrapped,
            overflow="fold" if wrapped else "ellipsis",
        )
    for row in cells:
        fitted = [
            short_address(cell, width) if name == "to" and not wraps else cell
            for name, cell, width in zip(columns, row, widths, strict=True)
        ]
        table.add_row(*(Text(visible(cell), style=colours.get(cell, "")) for cell in fitted))
    _print(table, full)


NEXT = 12  # columns before what a verdict says
LEAST, SCANT, LONGEST_WORD = 8, 4, 40  # columns
KEPT_WHOLE = frozenset({"id", "time", "taken", "at", "code", "attempt", "age", "next", "relayed", "failed", "next hop"})


def short_address(address: str, width: int) -> str:
    """An address in at most `width` columns: its domain, which says where mail goes, is kept before the rest."""
    if len(address) <= width:
        return address
    local, at, domain = address.rpartition("@")
    room = width - len(at + domain) - 1
    return f"{local[:room]}…{at}{domain}" if at and room > 0 else f"…{address[1 - width :]}"


def _narrow(widths: list[int], least: Sequence[int], room: int) -> None:
    """Make columns narrower until they fit, the one with the most to spare first, none below its `least`."""
    while sum(widths) > room:
        spare = [width - kept for width, kept in zip(widths, least, strict=True)]
        if max(spare) <= 0:
            return
        widths[spare.index(max(spare))] -= 1


def _least(column: Sequence[str], name: str, *, wraps: bool) -> int:
    """How narrow a column may become before others do: ids, times, codes and next hops stay whole, and so do words in
    what is wrapped."""
    if name in KEPT_WHOLE:
        return min(max(map(len, column), default=0), LONGEST_WORD)
    if not wraps:
        return min(max(map(len, column), default=0), LEAST)
    return min(max(len(word) for cell in (name, *column) for word in (cell.split() or [""])), LONGEST_WORD)


def print_verdict(verdict: Verdict) -> None:
    """The end of every command that looks at mail."""
    from rich.table import Table
    from rich.text import Text

    table = Table(box=None, show_header=False, padding=(0, 0, 0, 2))
    table.add_column(no_wrap=True)
    table.add_column(overflow="fold")
    side = verdict.side.value if verdict.side else "none"
    command = typed(verdict.next)
    advice = verdict.advice or ("" if command else "nothing more is known here")
    for name, text in (("side", side), ("meaning", verdict.meaning), ("evidence", verdict.evidence)):
        table.add_row(name, Text(visible(text)))
    table.add_row("next", "" if command else Text(visible(advice)))
    say(("Verdict", "bold"))
    _print(table)
    if command:  # alone on its line, however long: to be pasted
        click.echo("    " + click.style(visible(command), bold=console().is_terminal))
        if advice:
            say(advice, indent=NEXT)


def recipient_json(recipient: Recipient) -> dict[str, Any]:
    """The state of one recipient of a waiting message."""
    return {
        "to": recipient.address,
        "state": recipient.state.value,
        "attempts": recipient.attempts,
        "next_try": json_time(recipient.next_try),
        "connector": recipient.connector or None,
        "last_reply": recipient.reply or None,
    }


def stop_json(stop: LaneStop) -> dict[str, Any]:
    """Why a lane does not move."""
    return {
        "connector": stop.connector or None,
        "domain": stop.domain or None,
        "since": json_time(stop.since),
        "next_try": json_time(stop.until) if stop.until < math.inf else None,
        "stage": stop.stage,
        "side": stop.side,
        "cause": stop.cause,
        "code": stop.code,
        "text": stop.text,
        "next_hop": stop.next_hop or None,
    }


def verdict_json(verdict: Verdict) -> dict[str, Any]:
    """A verdict as JSON values."""
    return {
        "side": verdict.side.value if verdict.side else None,
        "meaning": verdict.meaning,
        "evidence": verdict.evidence,
        "next": typed(verdict.next) or None,
        "advice": verdict.advice or None,
    }
