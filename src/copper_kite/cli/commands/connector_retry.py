"""`kite connector retry`: try a whole connector now, and show the results."""

from __future__ import annotations

import math
import time
from typing import TYPE_CHECKING

from copper_kite.cli.output.show import age, echo, local_time, print_json, stop_json

if TYPE_CHECKING:
    from copper_kite.settings import Loaded
    from copper_kite.store import LaneStop

__all__ = ["offer_retry", "retry"]

WAIT_SECONDS = 120.0  # for an attempt


def retry(loaded: Loaded, name: str, *, wait: bool, as_json: bool) -> int:
    """Make the running server try it; the exit status."""
    from copper_kite.cli.commands.pipe_command import local_user
    from copper_kite.cli.commands.queue_actions import ask_server, some_server_runs
    from copper_kite.store import AdminRequest, running_server
    from copper_kite.words import Action

    running = running_server(loaded.data)
    if running is None and not some_server_runs(loaded.store):
        echo("no server runs now; `kite serve` tries all that waits when it starts")
        return 1
    waiting, began = _waiting(loaded, name), time.time()
    wanted = AdminRequest(0, began, local_user(), Action.RETRY_CONNECTOR, 0, 0, name)
    done = ask_server(loaded.store, running, [wanted])
    stops = _follow(loaded, name, began) if wait else []
    if as_json:
        print_json({"connector": name, "recipients": waiting, "stopped": [stop_json(stop) for stop in stops]})
    else:
        echo(f"connector {name}, for which {waiting} recipient{'s wait' if waiting != 1 else ' waits'}: {done}")
        for stop in stops:
            where = f"{stop.domain}: " if stop.domain else ""
            then = f"; next try {local_time(stop.until)}" if stop.until < math.inf else ""
            echo(f"still stopped: {where}{stop.text}{then}")
        if wait and not stops:
            left = _waiting(loaded, name)
            echo(f"it moves; {left} recipient{'s' * (left != 1)} left to go")
    return 4 if stops else 0


def offer_retry(loaded: Loaded | None, name: str) -> None:
    """After a test that went well: what waits for a next hop that is remembered as down need not wait any longer."""
    from copper_kite.errors import StoreError

    try:
        stops = _stops(loaded, name) if loaded is not None else []
        waiting = _waiting(loaded, name) if loaded is not None and stops else 0
    except StoreError:  # nothing was ever served here
        return
    if waiting:
        since = age(time.time() - min(stop.since for stop in stops))
        echo(f"The server has it down for {since}, and {waiting} recipient{'s wait' if waiting != 1 else ' waits'}:")
        echo(f"kite connector retry {name} --wait")


def _stops(loaded: Loaded, name: str) -> list[LaneStop]:
    from copper_kite.store import open_store

    with open_store(loaded.store).reader() as reader:
        return [stop for stop in reader.lanes() if stop.connector == name]


def _waiting(loaded: Loaded, name: str) -> int:
    from copper_kite.store import open_store

    with open_store(loaded.store).reader() as reader:
        return next((group.recipients for group in reader.groups("connector") if group.name == name), 0)


def _follow(loaded: Loaded, name: str, began: float) -> list[LaneStop]:
    """Wait until it moves, or was found stopped since then; by what it is."""
    until = time.monotonic() + WAIT_SECONDS
    while True:
        stops = _stops(loaded, name)
        if all(stop.at >= began for stop in stops) or time.monotonic() > until:
            return stops
        time.sleep(0.05)
