"""Every next command that a verdict prints is accepted as it is printed, and mends what it says it mends."""

from __future__ import annotations

from pathlib import Path

from tests.causes import CAUSES, run_cause, settle, situations
from tests.support import kite
from tests.walk import FAILURES, next_command, paste, walk

ACCEPTED = (0, 1, 4)  # done, not as hoped, or stopped by a next hop; never a usage error or a fault
TYPED = {"credential set": "quay-7\n"}


def follow(shown: str) -> str | None:
    """Paste the command that a verdict names; it."""
    command = next_command(shown)
    if command is None or " serve" in command or " log follow" in command:
        return None
    typed = next((text for words, text in TYPED.items() if words in command), "")
    status, printed = paste(command, typed)
    assert status in ACCEPTED, f"{command}\nends with {status}:\n{printed}"
    assert "Traceback" not in printed and "error of this program" not in printed, f"{command}:\n{printed}"
    again = next_command(printed)
    assert again != command, f"{command} recommends itself"
    return command


def test_each_stop_and_the_command_that_it_names(folder: Path) -> None:
    """By the story, by a test of the connector; with `--config` as it was given."""
    with walk(folder) as (config, known):
        for failure in FAILURES:
            for words in (("trace", known[failure.name]), ("connector", "test", failure.name)):
                if words[0] == "connector" and failure.name == "filtered":
                    continue  # it takes its time
                shown = kite(*words, config=config).stdout.decode()
                flat = " ".join(shown.split())
                assert words[0] != "trace" or failure.says in flat, f"{failure.name}: {shown}"
                command = follow(shown)
                assert command is None or f"--config {config}" in command or command.startswith(("cat ", "date")), (
                    command
                )
            if failure.mends:
                assert kite("connector", "retry", failure.name, config=config).returncode == 0
                settle(config, known[failure.name], "relayed")
        failed_over = kite("trace", known["failover"], config=config).stdout.decode()
        assert "tried" in failed_over and "connection refused" in failed_over
        status = " ".join(kite("status", config=config).stdout.decode().split())
        assert "connector failover: localhost:" in status and "is down since" in status
        filtered = " ".join(kite("trace", known["filtered"], config=config).stdout.decode().split())
        assert "running connect" in filtered and "which is being opened" in filtered


def test_each_cause_and_the_command_that_it_names(folder: Path) -> None:
    """In the state that produced it."""
    with situations(folder) as (config, known):
        for cause in CAUSES:
            _, shown = run_cause(cause, config, known, plain=False)
            follow(shown)
