"""`python -m bench rehearsal`: what a million rehearsed messages with an outage take, and 200 runs of a day."""

from __future__ import annotations

import json
import os
import resource
import subprocess
import sys
import tempfile
import time
from pathlib import Path

__all__ = ["rehearsal"]

CONFIGURATION = """[server]
name = "quay1.example"
data = "queue"
[[listener]]
name = "programs"
bind = ["127.0.0.1:2525"]
[[connector]]
name = "beacon"
hosts = ["out.beaconpost.example:587"]
"""
OUTAGE = ["--down", "beacon=6h@09:00"]
RUNS = {
    "1,000,000 messages in a week, 6 h of them down": ["--rate", "5952/h", "--for", "7d", "--runs", "1", *OUTAGE],
    "1,000,000 messages in a day, 6 h of it down": ["--rate", "41667/h", "--for", "1d", "--runs", "1", *OUTAGE],
    "200 runs of a day with 10,000 messages": ["--rate", "416.7/h", "--for", "1d", "--runs", "200", "--width", "0"],
}


def rehearsal(folder: Path) -> None:
    """Run the command, and print the time of each with the memory of the largest process so far."""
    with tempfile.TemporaryDirectory(dir=folder) as name:
        config = Path(name) / "kite.toml"
        config.write_text(CONFIGURATION)
        for title, words in RUNS.items():
            seconds, result = _run(config, [*words, "--json"])
            most = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024
            submitted = result["submitted"]["median"]
            print(f"{title}: {seconds:.1f} s, {most:.0f} MiB; {submitted:,.0f} submitted, {result['runs']} run(s)")


def _run(config: Path, words: list[str]) -> tuple[float, dict[str, dict[str, float]]]:
    began = time.perf_counter()
    command = [sys.executable, "-m", "copper_kite", "--config", str(config), "rehearse", *words]
    done = subprocess.run(command, check=True, capture_output=True, env={**os.environ, "PYTHONHASHSEED": "0"})
    return time.perf_counter() - began, json.loads(done.stdout)
