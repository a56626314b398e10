"""Values as text, tables and JSON. What a peer said is shown escaped; colour is never the only sign."""

from __future__ import annotations

import json
import sys
import time
from collections.abc import Iterable, Sequence
from datetime import UTC, datetime
from typing import Any

import click

from copper_kite.verdict.judge import Verdict

__all__ = [
    "STATE_COLOURS",
    "age",
    "cut",
    "json_time",
    "local_time",
    "print_json",
    "print_table",
    "print_verdict",
    "size",
    "styled",
    "verdict_json",
]

WIDTH = 100  # columns at most
STATE_COLOURS = {"relayed": "green", "delayed": "yellow", "failed": "red", "queued": "cyan", "parked": "magenta"}


def size(octets: int) -> str:
    """Octets as people read them."""
    if octets < 1024:
        return f"{octets} B"
    value = float(octets)
    for unit in ("KiB", "MiB", "GiB"):
        value /= 1024
        if value < 1024:
            break
    return f"{value:.1f} {unit}"


def age(seconds: float) -> str:
    """A span in its two largest units."""
    left = max(int(seconds), 0)
    parts = []
    for unit, length in (("d", 86400), ("h", 3600), ("m", 60), ("s", 1)):
        count, left = divmod(left, length)
        if count or (unit == "s" and not parts):
            parts.append(f"{count}{unit}")
    return "".join(parts[:2])


def local_time(at: float, now: float | None = None) -> str:
    """The local time, with the date when it is not today's."""
    then, today = time.localtime(at), time.localtime(time.time() if now is None else now)
    return time.strftime("%H:%M:%S" if then[:3] == today[:3] else "%Y-%m-%d %H:%M:%S", then)


def json_time(at: float | None) -> str | None:
    """RFC 3339 with zone."""
    return None if at is None else datetime.fromtimestamp(at, UTC).isoformat(timespec="milliseconds")


def cut(text: str, width: int) -> str:
    """`text` in at most `width` columns, with … where something is missing."""
    return text if len(text) <= width else text[: max(width - 1, 0)] + "…"


def styled(text: str, colour: str | None, *, bold: bool = False) -> str:
    """Coloured on a terminal; `click.echo` takes the colour away elsewhere, `NO_COLOR` everywhere."""
    import os

    if os.environ.get("NO_COLOR") or not sys.stdout.isatty():
        return text
    return click.style(text, fg=colour, bold=bold)


def print_json(value: object) -> None:
    """One document."""
    click.echo(json.dumps(value, indent=2, ensure_ascii=False))


def print_table(
    columns: Sequence[str],
    rows: Iterable[Sequence[str]],
    *,
    right: Sequence[str] = (),
    last_wraps: bool = False,
    colours: dict[str, str] | None = None,
) -> None:
    """Aligned columns, at most WIDTH wide: the last column gives way, cut or wrapped.

    A cell whose text is a key of `colours` gets that colour.
    """
    cells = [list(row) for row in rows]
    widths = [max([len(name), *(len(row[n]) for row in cells)]) for n, name in enumerate(columns)]
    room = WIDTH - sum(widths[:-1]) - 2 * (len(widths) - 1)
    widths[-1] = min(widths[-1], max(room, 12))
    click.echo(styled(_line(list(columns), widths, columns, right, {}), None, bold=True))
    for row in cells:
        click.echo(_line(row, widths, columns, right, colours or {}, wraps=last_wraps))


def _line(
    row: Sequence[str],
    widths: Sequence[int],
    columns: Sequence[str],
    right: Sequence[str],
    colours: dict[str, str],
    *,
    wraps: bool = False,
) -> str:
    out = []
    for text, width, column in zip(row[:-1], widths[:-1], columns[:-1], strict=True):
        padded = text.rjust(width) if column in right else text.ljust(width)
        out.append(styled(padded, colours[text]) if text in colours else padded)
    last, width = row[-1], widths[-1]
    if not wraps:
        return "  ".join([*out, cut(last, width)]).rstrip()
    import textwrap

    lines = textwrap.wrap(last, width) or [""]
    indent = " " * (sum(widths[:-1]) + 2 * (len(widths) - 1))
    return "\n".join(["  ".join([*out, lines[0]]).rstrip(), *(indent + line for line in lines[1:])])


def print_verdict(verdict: Verdict) -> None:
    """The end of every command that looks at mail."""
    import textwrap

    click.echo(styled("Verdict", None, bold=True))
    rows = [("side", str(verdict.side.value) if verdict.side else "nobody's: nothing is wrong")]
    if verdict.side is None and "waits" in verdict.meaning:
        rows = []
    rows += [("meaning", verdict.meaning), ("evidence", verdict.evidence), ("next", verdict.next)]
    for name, text in rows:
        lines = textwrap.wrap(text, WIDTH - 12, break_long_words=False, break_on_hyphens=False) or [""]
        click.echo(f"  {name:<8}  {lines[0]}")
        for line in lines[1:]:
            click.echo(f"            {line}")


def verdict_json(verdict: Verdict) -> dict[str, Any]:
    """A verdict as JSON values."""
    return {
        "side": verdict.side.value if verdict.side else None,
        "meaning": verdict.meaning,
        "evidence": verdict.evidence,
        "next": verdict.next,
    }
