"""`kite queue watch`."""

from __future__ import annotations

import time
from collections.abc import Iterator
from typing import TYPE_CHECKING, Any, NamedTuple

import click

from copper_kite.cli.output.show import STATE_COLOURS, age, console, echo, json_text, json_time, local_time
from copper_kite.cli.shared.options import DURATION, queue_place

if TYPE_CHECKING:
    from rich.console import RenderableType

    from copper_kite.store import QueueSummary, Running, StorePlace
    from copper_kite.trace import Entry, Pulse
    from copper_kite.words import State

__all__ = ["Look", "picture", "watch"]


LOOK_BACK = 3600.0  # seconds before the start in which the latest are looked for


class Look(NamedTuple):
    """The state at one moment: `new` are the events since the look before, `first` is the first state."""

    at: float
    running: Running | None
    summary: QueueSummary
    pulse: Pulse
    new: list[Entry]
    first: tuple[float, QueueSummary]

    def change(self, state: State) -> int:
        """How many recipients more, or fewer, are in a state than at the first look."""
        return self.summary.by_state.get(state, 0) - self.first[1].by_state.get(state, 0)


@click.command()
@click.option("--every", type=DURATION, default="1s", show_default=True, help="Update interval.")
@click.option("--times", type=click.IntRange(1), help="Stop after this number of updates; by default at Ctrl-C.")
@click.option("--json", "as_json", is_flag=True, help="Print one line of JSON at each update.")
@click.pass_obj
def watch(config: str | None, every: float, times: int | None, as_json: bool) -> None:
    """Show a live view for the minutes after a change: states, the traffic of the last minute, the latest replies."""
    looks = _looks(queue_place(config), max(every, 0.1), times)
    try:
        if as_json:
            for look in looks:
                echo(json_text(_json(look)))
        elif console().is_terminal:
            _live(looks)
        else:
            for look in looks:
                echo(_line(look))
    except KeyboardInterrupt:
        raise SystemExit(0) from None


def _looks(queue: StorePlace, every: float, times: int | None) -> Iterator[Look]:
    from copper_kite.store import open_store, running_server
    from copper_kite.trace import Pulse, journal_entries

    history, pulse, count, now = open_store(queue).history(), Pulse(), 0, time.time()
    place, first = history.now(), None
    for happened in history.between(now - LOOK_BACK, now):
        pulse.add(journal_entries(happened, ""), now)
    with open_store(queue).reader() as reader:
        while True:
            now = time.time()
            new = [entry for happened in history.after(place) for entry in journal_entries(happened, "")]
            pulse.add(new, now)
            summary = reader.summary()
            first = first or (now, summary)
            yield Look(now, running_server(queue.folder), summary, pulse, new, first)
            count += 1
            if count == times:
                return
            time.sleep(every)


def _live(looks: Iterator[Look]) -> None:
    """Show one picture that changes."""
    from rich.live import Live

    with Live(console=console(), auto_refresh=False, transient=False) as live:
        for look in looks:
            live.update(picture(look), refresh=True)


def picture(look: Look) -> RenderableType:
    """The screen of a terminal."""
    from rich.console import Group
    from rich.table import Table
    from rich.text import Text

    from copper_kite.words import OPEN

    summary, counts = look.summary, look.pulse.counts(look.at)
    how = f"the server runs since {local_time(look.running.since)}" if look.running else "no server runs"
    oldest = f", the oldest {age(look.at - summary.oldest)} old" if summary.oldest is not None else ""
    states = Table(box=None, pad_edge=False, padding=(0, 3, 0, 0), header_style="bold")
    states.add_column("recipients")
    for word in ("queued", "delayed", "parked", "", *counts):
        states.add_column(word, justify="right")
    waiting = [str(summary.by_state.get(state, 0)) for state in OPEN]
    states.add_row("now", *waiting, "in the last minute", *map(str, counts.values()))
    states.add_row(f"since {local_time(look.first[0])}", *(f"{look.change(state):+}" for state in OPEN))
    latest = Table(box=None, pad_edge=False, padding=(0, 1, 0, 0), show_header=False)
    for name, least in (("time", 8), ("what", 8), ("id", 10), ("to", 26), ("said", 20)):
        latest.add_column(name, no_wrap=True, overflow="ellipsis", min_width=least)
    for entry in look.pulse.latest:
        outcome = Text(entry.outcome, style=STATE_COLOURS.get(entry.outcome, ""))
        latest.add_row(local_time(entry.at or 0), outcome, entry.id, entry.recipient, entry.text)
    return Group(
        Text(f"{local_time(look.at)}  {how}; {_waiting(summary.messages)}{oldest}"),
        Text(), states, Text(), Text("Latest", style="bold"), latest, Text(), Text("Ctrl-C ends this"),
    )  # fmt: skip


def _waiting(messages: int) -> str:
    return "1 message waits" if messages == 1 else f"{messages} messages wait"


def _line(look: Look) -> str:
    states = "  ".join(f"{state.value} {count}" for state, count in look.summary.by_state.items()) or "nothing waits"
    counts = "  ".join(f"{word} {count}" for word, count in look.pulse.counts(look.at).items())
    return f"{local_time(look.at)}  {states}  |  in the last minute: {counts}"


def _json(look: Look) -> dict[str, Any]:
    from copper_kite.cli.commands.log import entry_json
    from copper_kite.words import OPEN

    return {
        "time": json_time(look.at),
        "running": look.running is not None,
        "states": {state.value: count for state, count in look.summary.by_state.items()},
        "changed": {state.value: look.change(state) for state in OPEN},
        "messages": look.summary.messages,
        "oldest": json_time(look.summary.oldest),
        "last_minute": look.pulse.counts(look.at),
        "new": [entry_json(entry) for entry in look.new],
    }
