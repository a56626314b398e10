"""Promises 1 and 2 under kill -9: whatever was answered 250 arrives, and hardly anything twice."""

from __future__ import annotations

import os
import signal
from pathlib import Path

import pytest

from tests.hostile.kills import process_that_writes, rounds
from tests.support import free_port, running, write_site


@pytest.mark.parametrize("badness", [0, 15])
@pytest.mark.data_folder
async def test_nothing_answered_is_lost_and_hardly_anything_comes_twice(folder: Path, badness: int) -> None:
    """Q-01, Q-03: 25 sessions and 3 hostile clients, four kills under load, also while the smart host misbehaves."""
    outcome = await rounds(folder, 1000, 4, seed=badness, badness=badness)
    print(outcome)
    assert outcome.right, outcome
    assert outcome.kept == 1000 and outcome.relayed >= 1000 - outcome.refused


@pytest.mark.data_folder
def test_without_the_process_that_writes_the_server_stops_and_says_so(folder: Path) -> None:
    with running(write_site(folder, free_port(), tls="off")) as server:
        writer = process_that_writes(server)
        assert writer is not None and server.stderr is not None
        os.kill(writer, signal.SIGKILL)
        assert server.wait(30) == 1 and b"the queue cannot be written any more" in server.stderr.read()
