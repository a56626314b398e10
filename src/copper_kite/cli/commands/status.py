"""`kite status`."""

from __future__ import annotations

import math
import os
import time
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import click

from copper_kite.cli.output.show import age, echo, json_time, local_time, print_json, print_table, say, size, stop_json
from copper_kite.cli.shared.options import json_option, load_settings

if TYPE_CHECKING:
    from copper_kite.settings.load import Loaded
    from copper_kite.settings.model import Connector
    from copper_kite.store import ConnectorState, LaneNow, LaneStop, Note, QueueSummary, Running

__all__ = ["status"]

MOST_STOPS = 10  # lanes that are shown one by one


@click.command()
@json_option
@click.pass_context
def status(ctx: click.Context, as_json: bool) -> None:
    """Is it running, what waits, which connectors work.

    Exit 0 when it runs, 1 when it does not, or not with the configuration that is in the file, or has no room left.
    """
    from copper_kite.errors import StoreError
    from copper_kite.store import (
        QueueSummary,
        dropped_names,
        open_store,
        read_live,
        read_note,
        read_recordings,
        running_server,
    )

    loaded, told = _settings(ctx.obj)
    running = running_server(loaded.data)
    if running is not None:
        told = told or _told_by(read_note(loaded.data), loaded)
    if (short := _short_of_room(loaded)) is not None:
        told = [*told, short]
    lanes = read_live(loaded.data) if running is not None else []
    dropped = len(dropped_names(loaded.drop))
    recordings = read_recordings(loaded.data, time.time())
    summary, known, stops, faults = QueueSummary(), {}, [], 0
    try:
        with open_store(loaded.data).reader() as reader:
            summary, known = reader.summary(), {state.name: state for state in reader.connectors()}
            stops = reader.lanes()
            faults = reader.held_by_faults()
    except StoreError:
        if (loaded.data / "queue.sqlite").exists():
            raise
    if as_json:
        found = _status_json(loaded, running, summary, known, lanes)
        print_json(
            {
                **found,
                "stopped": [stop_json(stop) for stop in stops],
                "held_by_faults": faults,
                "dropped": dropped,
                "recordings": [{**one._asdict(), "until": json_time(one.until)} for one in recordings],
                "configuration": told or None,
            }
        )
    else:
        _show(loaded, running, summary, known, lanes)
        _show_failovers(lanes, {(stop.connector, stop.next_hop) for stop in stops})
        _show_stopped(stops)
        if dropped:
            said = "" if running is not None else ", until a server runs"
            say(f"drop folder: {_counted(dropped, 'message')} not taken up yet{said}")
        if faults:
            held = _counted(faults, "recipient")
            say((f"{held} held by faults of our own: kite queue list --reason 'our own fault'", "bold red"))
        for recording in recordings:
            left = age(recording.until - time.time())
            say(f"the dialogues of {recording.table} {recording.name} are recorded for another {left}")
        for line in told:
            say((line, "bold red"))
        _warn_of_allowances(loaded)
    ctx.exit(0 if running and not told else 1)


def _settings(config: str | None) -> tuple[Loaded, list[str]]:
    """The configuration; when the file cannot be used, the one that the server goes by, and what is to be told.

    Raises SettingsError when no server runs that could go on with another one.
    """
    from copper_kite.errors import SettingsError
    from copper_kite.settings.load import data_folder_of, find_config, load_source
    from copper_kite.store import read_note, running_server

    try:
        return load_settings(config), []
    except SettingsError as error:
        path = find_config(config)
        folder = data_folder_of(path)
        note = read_note(folder) if folder is not None and running_server(folder) else None
        if note is None:
            raise
        lines = str(error).splitlines()
        head = f"{path} cannot be used as it is now; the server goes on with that of {local_time(note.taken_at)}:"
        return load_source(path, note.source, secrets=False), [head, *(f"  {line}" for line in lines)]


def _short_of_room(loaded: Loaded) -> str | None:
    """What is to be told where the disk has less than is to stay free."""
    least = loaded.settings.server.keep_free
    try:
        found = os.statvfs(loaded.data)
    except OSError:
        return None
    free = found.f_bavail * found.f_frsize
    if free >= least:
        return None
    return f"the disk of {loaded.data} has {size(free)} left, and {size(least)} are to stay free: nothing is taken in"


def _told_by(note: Note | None, loaded: Loaded) -> list[str]:
    """What the running server has to say about its configuration."""
    if note is None:
        return []
    if note.refused_at is not None and note.refused_at > note.taken_at:
        head = (
            f"the server refused {loaded.path} at {local_time(note.refused_at)} and goes on with that of"
            f" {local_time(note.taken_at)}:"
        )
        return [head, *(f"  {problem}" for problem in note.problems)]
    if note.source != loaded.source:
        return [f"{loaded.path} has changed since the server read it; `kite config reload` has it taken up"]
    return list(note.problems)


def _show(
    loaded: Loaded,
    running: Running | None,
    summary: QueueSummary,
    known: dict[str, ConnectorState],
    lanes: Sequence[LaneNow],
) -> None:
    now = time.time()
    if running is None:
        say(f"{loaded.server_name}: ", ("not running", "bold red"), "; `kite serve` starts it")
    else:
        since = f"since {local_time(running.since)} ({age(now - running.since)}), process {running.pid}"
        say(f"{loaded.server_name}: ", ("running", "bold green"), f" {since}")
    waiting = ", ".join(f"{count} {state.value}" for state, count in summary.by_state.items())
    recipients, messages = _counted(sum(summary.by_state.values()), "recipient"), _counted(summary.messages, "message")
    if summary.messages:
        oldest = age(now - summary.oldest) if summary.oldest is not None else "?"
        say(f"queue: {recipients} ({waiting}) in {messages}, {size(summary.octets)}; the oldest waits {oldest}")
    else:
        say("queue: nothing waits")
    echo()
    print_table(
        ("connector", "next hop", "TLS", "sessions", "last success", "last failure", "what it was"),
        [
            (
                connector.name,
                connector.where,
                connector.tls,
                _sessions(connector, lanes),
                _when(known.get(connector.name), "last_good", now),
                _when(known.get(connector.name), "last_bad", now),
                known[connector.name].last_bad_text if connector.name in known else "",
            )
            for connector in loaded.settings.connector
        ],
        wraps=True,
    )


def _show_failovers(lanes: Sequence[LaneNow], stopped: set[tuple[str, str]]) -> None:
    """The next hops that are down, but for those by which a lane is `stopped`, which is told of that."""

    for lane in lanes:
        if lane.domain:
            continue
        for hop in lane.down:
            if (lane.connector, hop.next_hop) in stopped:
                continue
            since = f"is down since {local_time(hop.since)} (stage {hop.stage}): {hop.said}"
            then = f"; next look {local_time(hop.until)}"
            say((f"connector {lane.connector}: {hop.next_hop} {since}{then}", "yellow"))


def _show_stopped(stops: Sequence[LaneStop]) -> None:
    """The lanes that do not move: why, and when they are tried again."""
    if stops:
        echo()
    for stop in stops[:MOST_STOPS]:
        if not stop.connector:
            say(("some mail waits that no connector carries: kite queue list --reason 'no connector'", "yellow"))
            continue
        where = " ".join(filter(None, (stop.connector, stop.domain)))
        then = f"; next try {local_time(stop.until)}" if stop.until < math.inf else ""
        say((f"{where} is stopped: {stop.text}{then}", "yellow"))
    if len(stops) > MOST_STOPS:
        echo(f"… and {len(stops) - MOST_STOPS} more lanes are stopped")


def _sessions(connector: Connector, lanes: Sequence[LaneNow]) -> str:
    """How many sessions are open of how many that there may be; fewer than are set where the next hop takes fewer."""
    own = [lane for lane in lanes if lane.connector == connector.name]
    count = sum(lane.open for lane in own)
    if connector.mx:
        return str(count)
    allowed = own[0].allowed if own else connector.sessions
    return f"{count} of {allowed}" + (f" (set: {connector.sessions})" if allowed < connector.sessions else "")


def _warn_of_allowances(loaded: Loaded) -> None:
    """Say which allowances are nearly used, before mail begins to wait for them."""
    from copper_kite.cli.commands.connector import allowances_used
    from copper_kite.settings.units import NEARLY

    for name, used in allowances_used(loaded).items():
        for period, count, of in used:
            if count >= NEARLY * of:
                share = f"{count} of {of} for this {period}"
                what = "used up; mail waits for the next" if count >= of else "nearly used"
                say((f"connector {name}: its allowance is {what} ({share})", "yellow"))


def _counted(count: int, what: str) -> str:
    return f"{count} {what}{'' if count == 1 else 's'}"


def _when(state: ConnectorState | None, field: str, now: float) -> str:
    at = getattr(state, field) if state is not None else None
    return "never" if at is None else local_time(at, now)


def _status_json(
    loaded: Loaded,
    running: Running | None,
    summary: QueueSummary,
    known: dict[str, ConnectorState],
    lanes: Sequence[LaneNow],
) -> dict[str, Any]:
    return {
        "server": loaded.server_name,
        "running": running is not None,
        "since": json_time(running.since) if running else None,
        "pid": running.pid if running else None,
        "queue": {
            "recipients": {state.value: count for state, count in summary.by_state.items()},
            "messages": summary.messages,
            "octets": summary.octets,
            "oldest": json_time(summary.oldest),
        },
        "connectors": [
            {
                "name": connector.name,
                "next_hop": connector.where,
                "tls": connector.tls,
                "sessions": [
                    {"domain": lane.domain or None, "open": lane.open, "allowed": lane.allowed, "set": lane.most}
                    for lane in lanes
                    if lane.connector == connector.name
                ],
                "down": [
                    {**hop._asdict(), "since": json_time(hop.since), "until": json_time(hop.until)}
                    for lane in lanes
                    if lane.connector == connector.name
                    for hop in lane.down
                ],
                "last_success": json_time(known[connector.name].last_good) if connector.name in known else None,
                "last_failure": json_time(known[connector.name].last_bad) if connector.name in known else None,
                "last_failure_text": (known[connector.name].last_bad_text or None) if connector.name in known else None,
            }
            for connector in loaded.settings.connector
        ],
    }
