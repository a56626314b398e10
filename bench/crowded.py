"""A long queue: what it costs those who submit, and how fast it empties when the next hop is back."""

from __future__ import annotations

import argparse
import statistics
import subprocess
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from bench.site import configure, free_port, program
from bench.size import MANY, hand_in_many
from bench.turns import processor_seconds
from copper_kite.net import make_authority

__all__ = ["crowded", "drain"]

QUIET_SECONDS = 1.0  # with next to no work of the server: it has looked its queue through


def crowded(arguments: argparse.Namespace, load: Callable[[int], float]) -> None:
    """Print accept with a million waiting, beside accept with none, in turns; the next hop refuses connections."""
    with tempfile.TemporaryDirectory(dir=arguments.folder) as name:
        full = Path(name) / "full"
        hand_in_many(_site(full) / "queue", MANY, 300)
        ratios = []
        with tempfile.TemporaryDirectory(dir=name) as other:
            after = _accept(_site(Path(other) / "first"), arguments.messages, load)
            for number in range(1, arguments.rounds + 1):
                before, many = after, _accept(full, arguments.messages, load)
                after = _accept(_site(Path(other) / str(number)), arguments.messages, load)
                ratios.append(2 * many / (before + after))
                print(
                    f"round {number}: none {(before + after) / 2:7.0f} msgs/s"
                    f"   {MANY} waiting {many:7.0f}   {ratios[-1]:.3f}"
                )
    print(f"accept with {MANY} waiting: {statistics.median(ratios):.3f} of that with none; goal 0.90")


def _site(folder: Path) -> Path:
    folder.mkdir()
    make_authority(folder, ["localhost"])
    configure(folder, free_port(), free_port())
    return folder


def _accept(folder: Path, messages: int, load: Callable[[int], float]) -> float:
    """Messages a second."""
    port = free_port()
    configure(folder, port, free_port())
    with program("copper_kite", "--config", str(folder / "kite.toml"), "serve", ready=b"is serving") as server:
        _wait_until_quiet(server)
        return messages / load(port)


def _wait_until_quiet(server: subprocess.Popen[bytes]) -> None:
    used = -1.0
    while (now := processor_seconds(server)) - used > QUIET_SECONDS / 10:
        used = now
        time.sleep(QUIET_SECONDS)


def drain(arguments: argparse.Namespace, relay: Callable[[], float]) -> None:
    """Print how many of those that wait leave a second once the next hop is there, beside relay, in turns."""
    ratios = []
    after = relay()
    for number in range(1, arguments.rounds + 1):
        before, drained = after, _drain(Path(arguments.folder), arguments.messages, arguments.octets)
        after = relay()
        ratios.append(2 * drained / (before + after))
        print(f"round {number}: relay {(before + after) / 2:6.0f} msgs/s   drain {drained:6.0f}   {ratios[-1]:.3f}")
    print(f"the drain: {statistics.median(ratios):.3f} of relay; goal 0.90")


def _drain(folder: Path, messages: int, octets: int) -> float:
    """Messages a second, from the moment when the host can be had: sessions are opened one by one."""
    with tempfile.TemporaryDirectory(dir=folder) as name:
        here, hop = Path(name), free_port()
        files = make_authority(here, ["localhost"])
        config = configure(here, free_port(), hop, '[retry]\nwaits = ["1s"]\n')
        hand_in_many(here / "queue", messages, octets)
        words = (str(hop), str(files.certificate), str(files.key), str(messages), "0", "1")
        with program("copper_kite", "--config", str(config), "serve", ready=b"is serving") as server:
            _wait_until_quiet(server)
            with program("bench.sink", *words) as sink:
                assert sink.stdout is not None
                first, last = float(sink.stdout.readline()), float(sink.stdout.readline())
    return messages / (last - first)
