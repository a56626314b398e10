"""`kite demo --servers`: several servers that share a queue, and what happens when one of them dies."""

from __future__ import annotations

from typing import TYPE_CHECKING

from copper_kite.cli.output.show import echo, say

if TYPE_CHECKING:
    from pathlib import Path

    from copper_kite.demo import QuaysMoment
    from copper_kite.settings import Loaded
    from copper_kite.store import Reader

__all__ = ["run_servers"]


def run_servers(folder: Path, count: int, seconds: float) -> int:
    """The exit status. Raises NoDatabase where PostgreSQL cannot be started."""
    import uvloop

    from copper_kite.demo import Quays

    names = [f"quay{number}" for number in range(1, count + 1)]
    say(("Tern Island Ferries", "bold"), f": {count} servers share a queue for {seconds:g} s. All of it is in {folder}")
    echo("\nPrograms submit 15 messages a second to each server, and each relays 10. One is killed on the way (*).")
    echo("\n                                wait for")
    echo("  time   acknowledged   relayed   " + "   ".join(f"{name:>5}" for name in names))
    outcome = uvloop.run(Quays(folder, count, seconds, _tell, _over).run())
    echo()
    say((f"{outcome.acknowledged} messages acknowledged, {outcome.lost} lost,", "bold"),
        f" {outcome.extra} extra cop{'y' if outcome.extra == 1 else 'ies'}.")  # fmt: skip
    echo(
        f"{outcome.waited} waited for the server that was killed; its lease of 3 s ran out, and the others had them"
        f" {outcome.seconds:.0f} s after its death."
    )
    echo("The database has ended with the run. docs/several-servers.md says how to set up your own.")
    return 1 if outcome.lost else 0


def _over(loaded: Loaded, reader: Reader, example: int) -> None:
    from copper_kite.cli.commands.trace import show_story, story_of

    if example:
        echo()
        say(("A message that the killed server had accepted (kite trace ID, on any of them)", "bold"))
        show_story(story_of(loaded, reader, example))


def _tell(moment: QuaysMoment) -> None:
    waiting = "   ".join(f"{count:>4}{'*' if name == moment.killed else ' '}" for name, count in moment.waiting.items())
    echo(f"  {moment.at:>4.0f}   {moment.acknowledged:>12}   {moment.relayed:>7}   {waiting}")
