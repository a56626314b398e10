"""For each of the things that stop mail, one command leads a newcomer to the cause, in one screen."""

from __future__ import annotations

from pathlib import Path

from tests.causes import CAUSES, run_cause, situations


def test_one_command_leads_to_each_cause(folder: Path) -> None:
    with situations(folder) as (config, known):
        for cause in CAUSES:
            command, shown = run_cause(cause, config, known)
            flat = " ".join(shown.split())
            assert all(words in flat for words in cause.says), f"{cause.title}: {command}\n{shown}"
            assert f"side {cause.side} " in flat, f"{cause.title}: {command}\n{shown}"
            assert len(shown.splitlines()) <= 40, f"{cause.title} needs more than one screen"
