"""What `kite status` shows: one screen that answers whether mail flows, problems first; the same as JSON."""

from __future__ import annotations

import math
import sys
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

from copper_kite.cli.output.show import age, echo, json_time, local_time, print_table, say, size, stop_json
from copper_kite.settings import NEARLY
from copper_kite.trace import HOURS, Flow
from copper_kite.words import OUTCOMES

if TYPE_CHECKING:
    from copper_kite.monitoring import Disk
    from copper_kite.settings import Connector, Loaded
    from copper_kite.store import (
        ConnectorState,
        LaneNow,
        LaneStop,
        QueueSummary,
        RaisedAlarm,
        Recording,
        Running,
        ServerState,
    )

__all__ = ["ServerStatus", "show_brief", "show_status", "status_json"]

MOST_STOPS = 10  # lanes that are shown one by one
BARS = "▁▂▃▄▅▆▇"  # without the full one, which would touch that of the row above
NUMERALS = "1234567"  # for terminals that have no bars
NO_BAR = "·", "."

Line = tuple[str, str]  # text and style


@dataclass(slots=True)
class ServerStatus:
    """Everything that the status shows.

    `problems` is what is wrong with the configuration or the disk, a line each; `faults` the recipients held by faults
    of our own; `dropped` the messages in the drop folder; `octets` what the queue and the journal take of the disk;
    `allowances` what was used of them, by connector: period, count, of how many; `alarms` those that are raised.
    """

    loaded: Loaded
    now: float
    running: Running | None
    lanes: Sequence[LaneNow]
    dropped: int
    recordings: Sequence[Recording]
    allowances: dict[str, list[tuple[str, int, int]]]
    disk: Disk | None
    alarms: Sequence[RaisedAlarm] = ()
    problems: Sequence[str] = ()
    summary: QueueSummary | None = None
    known: dict[str, ConnectorState] = field(default_factory=dict)
    stops: Sequence[LaneStop] = ()
    faults: int = 0
    flow: Flow = field(default_factory=Flow)
    octets: int = 0
    servers: Sequence[ServerState] = ()  # that share the queue


def show_status(server: ServerStatus) -> None:
    """The screen."""
    loaded, running, now = server.loaded, server.running, server.now
    if running is None:
        say(f"{loaded.server_name}: ", ("not running", "bold red"), "; `kite serve` starts it")
    else:
        since = f"since {local_time(running.since)} ({age(now - running.since)}), process {running.pid}"
        say(f"{loaded.server_name}: ", ("running", "bold green"), f" {since}")
    for line, style in _problems(server):
        say((line, style), indent=2)
    _show_servers(server)
    echo()
    _show_flow(server.flow)
    echo()
    _show_queue(server)
    for recording in server.recordings:
        left = age(recording.until - now)
        say(f"the dialogues of {recording.table} {recording.name} are recorded for another {left}")
    echo()
    _show_connectors(server)


def _show_servers(status: ServerStatus) -> None:
    """The servers that share the queue, where there are others."""
    if all(server.name == status.loaded.server_name for server in status.servers):
        return
    for server in status.servers:
        since = f"since {local_time(server.since)}, {_counted(server.waiting, 'message')} in its backlog"
        state = ("alive", "green") if server.alive else ("silent, or stopped", "yellow")
        say(f"{server.name}: ", state, f" {since}" if server.alive else "; others have its mail", indent=2)


def show_brief(server: ServerStatus) -> None:
    """Print one line: whether the server runs, what waits, the last hour, and the number of problems."""
    by_state = server.summary.by_state if server.summary is not None else {}
    waiting = ", ".join(f"{count} {state.value}" for state, count in by_state.items() if count) or "nothing waits"
    hour = ", ".join(f"{server.flow.last_hour(outcome)} {outcome}" for outcome in OUTCOMES)
    wrong = [line for line, _ in _problems(server)]
    more = f" (and {len(wrong) - 1} more)" if len(wrong) > 1 else ""
    state = "running" if server.running is not None else "not running"
    end = f"; {wrong[0]}{more}" if wrong else ""
    echo(f"{server.loaded.server_name}: {state}; {waiting}; last hour: {hour}{end}")


def _problems(server: ServerStatus) -> Iterator[Line]:
    """The problems, the worst first."""
    for line in server.problems:
        yield line, "bold red"
    for alarm in server.alarms:
        yield f"alarm {alarm.name}, for {age(server.now - alarm.since)}: {alarm.text}", "bold red"
    if server.faults:
        held = _counted(server.faults, "recipient")
        yield f"{held} held by faults of our own: kite queue list --reason 'our own fault'", "bold red"
    yield from _stopped(server.stops, server.loaded.server_name)
    yield from _failovers(server.lanes, {(stop.connector, stop.next_hop) for stop in server.stops})
    for name, used in server.allowances.items():
        for period, count, of in used:
            if count >= NEARLY * of:
                share = f"{count} of {of} for this {period}"
                usage = "used up; mail waits for the next" if count >= of else "nearly used"
                yield f"connector {name}: its allowance is {usage} ({share})", "yellow"
    if server.dropped and server.running is None:
        yield f"drop folder: {_counted(server.dropped, 'message')} not taken up yet, until a server runs", "yellow"


def _stopped(stops: Sequence[LaneStop], own: str) -> Iterator[Line]:
    """The lanes that do not move: why, and when they are tried again; those of others than `own` with their server."""
    for stop in stops[:MOST_STOPS]:
        if not stop.connector:
            yield "some mail waits that no connector carries: kite queue list --reason 'no connector'", "yellow"
            continue
        where = " ".join(
            filter(None, (stop.connector, stop.domain, f"at {stop.server}" * (stop.server not in ("", own))))
        )
        then = f"; next try {local_time(stop.until)}" if stop.until < math.inf else ""
        yield f"{where} is stopped: {stop.text}{then}", "yellow"
    if len(stops) > MOST_STOPS:
        yield f"… and {len(stops) - MOST_STOPS} more lanes are stopped", "yellow"


def _failovers(lanes: Sequence[LaneNow], stopped: set[tuple[str, str]]) -> Iterator[Line]:
    """The next hops that are down, but for those by which a lane is `stopped`, which are shown by that."""
    for lane in lanes:
        for hop in () if lane.domain else lane.down:
            if (lane.connector, hop.next_hop) not in stopped:
                since = f"is down since {local_time(hop.since)} (stage {hop.stage}): {hop.said}"
                yield f"connector {lane.connector}: {hop.next_hop} {since}; next look {local_time(hop.until)}", "yellow"


def _show_flow(flow: Flow) -> None:
    """Recipients by outcome, with a bar for each of the last 24 hours, each row to its own scale."""
    print_table(
        ("recipients", "last hour", "last 24 h", "hour by hour, to now"),
        [
            (outcome, f"{flow.last_hour(outcome):,}", f"{flow.last_day(outcome):,}", _bars(flow.hours[outcome]))
            for outcome in OUTCOMES
        ],
        right=("last hour", "last 24 h"),
    )


def _bars(counts: Sequence[int]) -> str:
    """A sign for each count, the highest for the most; numerals where the output cannot show bars."""
    plain = not (sys.stdout.encoding or "").lower().startswith("utf")
    signs, none = (NUMERALS, NO_BAR[1]) if plain else (BARS, NO_BAR[0])
    most = max(counts)
    return "".join(signs[math.ceil(count / most * len(signs)) - 1] if count else none for count in counts)


def _show_queue(server: ServerStatus) -> None:
    summary = server.summary
    if summary is not None and summary.messages:
        waiting = ", ".join(f"{count} {state.value}" for state, count in summary.by_state.items())
        recipients = _counted(sum(summary.by_state.values()), "recipient")
        messages = _counted(summary.messages, "message")
        oldest = age(server.now - summary.oldest) if summary.oldest is not None else "?"
        say(f"queue: {recipients} ({waiting}) in {messages}, {size(summary.octets)}; the oldest waits {oldest}")
    else:
        say("queue: nothing waits")
    if server.dropped and server.running is not None:
        say(f"drop folder: {_counted(server.dropped, 'message')} not taken up yet")
    if server.disk is not None:
        disk = server.disk
        kept = f"{size(disk.keep_free)} are to stay free"
        say(f"disk: {size(disk.free)} free of {size(disk.all)}; {kept}; queue and journal take {size(server.octets)}")


def _show_connectors(server: ServerStatus) -> None:
    """A line for each connector, and below what each failed by."""
    known, now = server.known, server.now
    with_allowance = any(server.allowances.values())
    print_table(
        (
            "connector", "next hop", "sessions", "in 1 h", *["allowance used"] * with_allowance, "relayed", "failed",
            "TLS",
        ),
        [
            (
                connector.name,
                connector.where,
                _sessions(connector, server.lanes),
                f"{server.flow.relayed_by[connector.name]:,}",
                *[_used(server.allowances.get(connector.name, []))] * with_allowance,
                _when(known.get(connector.name), "last_good", now),
                _when(known.get(connector.name), "last_bad", now),
                connector.tls,
            )
            for connector in server.loaded.settings.connector
        ],
        right=("in 1 h",),
    )  # fmt: skip
    failures = [
        (connector.name, known[connector.name].last_bad_text)
        for connector in server.loaded.settings.connector
        if connector.name in known and known[connector.name].last_bad_text
    ]
    if failures:
        echo()
    for name, text in failures:
        say(f"{name} failed last by: {text}")


def _used(used: Sequence[tuple[str, int, int]]) -> str:
    return ", ".join(f"{count} of {of} a {period}" for period, count, of in used) or "-"


def _sessions(connector: Connector, lanes: Sequence[LaneNow]) -> str:
    """How many sessions are open of how many that there may be; fewer than are set where the next hop takes fewer."""
    own = [lane for lane in lanes if lane.connector == connector.name]
    count = sum(lane.open for lane in own)
    if connector.mx:
        return str(count)
    allowed = own[0].allowed if own else connector.sessions
    return f"{count} of {allowed}" + (f" (set: {connector.sessions})" if allowed < connector.sessions else "")


def _counted(count: int, noun: str) -> str:
    return f"{count} {noun}{'' if count == 1 else 's'}"


def _when(state: ConnectorState | None, field: str, now: float) -> str:
    at = getattr(state, field) if state is not None else None
    return "never" if at is None else local_time(at, now)


def status_json(server: ServerStatus) -> dict[str, Any]:
    """The status as JSON values."""
    summary, running, flow = server.summary, server.running, server.flow
    return {
        "server": server.loaded.server_name,
        "running": running is not None,
        "since": json_time(running.since) if running else None,
        "pid": running.pid if running else None,
        "queue": {
            "recipients": {state.value: count for state, count in summary.by_state.items()} if summary else {},
            "messages": summary.messages if summary else 0,
            "octets": summary.octets if summary else 0,
            "oldest": json_time(summary.oldest) if summary else None,
        },
        "flow": {
            "last_hour": {outcome: flow.last_hour(outcome) for outcome in OUTCOMES},
            "last_day": {outcome: flow.last_day(outcome) for outcome in OUTCOMES},
            "hours": [{outcome: flow.hours[outcome][hour] for outcome in OUTCOMES} for hour in range(HOURS)],
        },
        "disk": {**server.disk._asdict(), "used": server.octets} if server.disk else None,
        "connectors": [_connector_json(connector, server) for connector in server.loaded.settings.connector],
        "stopped": [stop_json(stop) for stop in server.stops],
        "held_by_faults": server.faults,
        "dropped": server.dropped,
        "recordings": [{**recording._asdict(), "until": json_time(recording.until)} for recording in server.recordings],
        "alarms": [
            {"name": alarm.name, "since": json_time(alarm.since), "text": alarm.text} for alarm in server.alarms
        ],
        "configuration": list(server.problems) or None,
        "servers": [
            {
                "name": other.name,
                "alive": other.alive,
                "since": json_time(other.since),
                "backlog": other.waiting,
                "lease_left": other.lease_left,
            }
            for other in server.servers
        ],
    }


def _connector_json(connector: Connector, server: ServerStatus) -> dict[str, Any]:
    known = server.known.get(connector.name)
    lanes = [lane for lane in server.lanes if lane.connector == connector.name]
    return {
        "name": connector.name,
        "next_hop": connector.where,
        "tls": connector.tls,
        "sessions": [
            {"domain": lane.domain or None, "open": lane.open, "allowed": lane.allowed, "set": lane.most}
            for lane in lanes
        ],
        "down": [
            {**hop._asdict(), "since": json_time(hop.since), "until": json_time(hop.until)}
            for lane in lanes
            for hop in lane.down
        ],
        "relayed_last_hour": server.flow.relayed_by[connector.name],
        "allowances": [
            {"period": period, "used": count, "of": of}
            for period, count, of in server.allowances.get(connector.name, [])
        ],
        "last_success": json_time(known.last_good) if known else None,
        "last_failure": json_time(known.last_bad) if known else None,
        "last_failure_text": (known.last_bad_text or None) if known else None,
    }
