"""`kite talk`."""

from __future__ import annotations

import asyncio
import os
import sys
from collections.abc import Awaitable, Callable, Iterable
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from copper_kite.cli.output.probe_output import milliseconds
from copper_kite.cli.output.show import echo, print_verdict
from copper_kite.cli.shared.options import Endpoints
from copper_kite.cli.shared.target import SUBMISSION_PORT, Target, credentials_of, find_target, target_options
from copper_kite.smtp import visible

if TYPE_CHECKING:
    from prompt_toolkit import PromptSession
    from prompt_toolkit.completion import Completer
    from prompt_toolkit.history import FileHistory

    from copper_kite.session import Said, Talk
    from copper_kite.settings import Endpoint

__all__ = ["talk"]

COLOURS = {"server": "", "note": "cyan", "?": "yellow", "!": "red"}
SIGNS = {"server": "S:", "note": "--", "?": "? ", "!": "! "}
COMMANDS = (
    "EHLO", "HELO", "STARTTLS", "AUTH PLAIN", "MAIL FROM:<", "RCPT TO:<", "DATA", "RSET", "NOOP", "VRFY", "HELP", "QUIT"
)  # fmt: skip

Read = Callable[["Talk"], Awaitable["str | None"]]


@click.command()
@click.argument("server", required=False, type=Endpoints(SUBMISSION_PORT), metavar="[HOST[:PORT]]")
@click.pass_context
def talk(ctx: click.Context, /, server: Endpoint | None, **given: Any) -> None:
    """Type SMTP in a live session; replies are explained.

    The prompt shows the stage. After 354, type the message; a line of one dot ends it. Lines that begin with a colon
    are for kite: :hello :tls :login :content :offers :save :again :help :quit. On a pipe, each line of standard input
    is one that is typed.

    Exit 0 when the session ended as it should, 4 when something stopped it.
    """
    target = find_target(ctx.obj, server, given)
    ctx.exit(asyncio.run(_talk(target)))


async def _talk(target: Target) -> int:
    from copper_kite.session import Talk

    on_terminal = sys.stdin.isatty() and sys.stdout.isatty()
    live = Talk(target.plan, credentials_of(target.loaded, []), target.facts)
    read: Read = _Terminal().read if on_terminal else _read_pipe
    echo(f"{target.where}: :help lists what kite does for you", err=not on_terminal)
    _show(await live.begin())
    while not live.over and (live.prompt != "closed" or on_terminal) and (line := await read(live)) is not None:
        _show(await live.enter(line))
        if live.failed and not on_terminal:
            break
    await live.enter(":quit")
    if live.verdict is not None:
        echo()
        print_verdict(live.verdict)
    return 4 if live.failed else 0


def _show(lines: Iterable[Said]) -> None:
    for line in lines:
        took = milliseconds(line.seconds) if line.seconds is not None else ""
        click.echo(f"{took:>9}  {SIGNS[line.mark]} " + click.style(visible(line.text), fg=COLOURS[line.mark] or None))


async def _read_pipe(live: Talk) -> str | None:
    """The next line of standard input, shown as what was typed."""
    from copper_kite.session import holds_secret
    from copper_kite.smtp import typed_command

    line: str = await asyncio.get_running_loop().run_in_executor(None, sys.stdin.readline)
    if not line:
        return None
    line = line.rstrip("\r\n")
    hidden = live.secret or (live.complete and holds_secret(line))
    echo(f"{live.prompt:>9}  C: {typed_command(line, answer=live.secret).shown if hidden else line}")
    return line


class _Terminal:
    """Line editing, history and completion; what is secret shows neither here nor there."""

    def __init__(self) -> None:
        self._lines: PromptSession[str] = _prompt_session()

    async def read(self, live: Talk) -> str | None:
        """The next line typed; None at the end of input."""
        from prompt_toolkit import PromptSession

        prompt = f"{live.prompt:>9}  {'(hidden) ' if live.secret else ''}> "
        try:
            if live.secret or not live.complete:  # neither secrets nor messages belong into the history
                return str(await PromptSession[str]().prompt_async(prompt, is_password=live.secret))
            return str(await self._lines.prompt_async(prompt, completer=_completer()))
        except EOFError:
            return None
        except KeyboardInterrupt:
            return ":quit"


def _history(path: Path) -> FileHistory:
    """The history of typed lines, without those that hold a secret."""
    from prompt_toolkit.history import FileHistory

    from copper_kite.session import holds_secret

    class History(FileHistory):
        def append_string(self, string: str) -> None:
            if not holds_secret(string):
                super().append_string(string)

    return History(str(path))


def _prompt_session() -> PromptSession[str]:
    from prompt_toolkit import PromptSession

    folder = Path(os.environ.get("XDG_STATE_HOME") or Path.home() / ".local" / "state") / "copper-kite"
    try:
        folder.mkdir(mode=0o700, parents=True, exist_ok=True)
        return PromptSession(history=_history(folder / "talk-history"))
    except OSError:  # a home that cannot be written to costs the history, not the session
        return PromptSession()


def _completer() -> Completer:
    from prompt_toolkit.completion import WordCompleter

    from copper_kite.session import HELPERS

    words = [*COMMANDS, *HELPERS]
    return WordCompleter(words, ignore_case=True, sentence=True, meta_dict=dict(HELPERS))


target_options(talk)
