"""The command `kite`: its commands by the work they belong to, each imported only when it is called."""

from __future__ import annotations

import importlib
import os
import sys
from typing import Any

import click

from copper_kite import __version__
from copper_kite.errors import KiteError, NotReadable

__all__ = ["kite", "run_command_line", "words_of_fault"]

UNEXPECTED = 70  # the exit status that programs have for an error of their own

# family → command → (module, what it does)
FAMILIES: dict[str, dict[str, tuple[str, str]]] = {
    "Set up": {
        "init": ("init", "Set up a send-only server by questions or options."),
        "check": ("check", "Check the configuration; list every problem and how to fix it."),
        "connector": ("connector", "Manage how mail leaves: next hops, TLS and logins."),
        "listener": ("listener", "Manage where programs submit mail, and which clients may."),
        "account": ("account", "Manage the logins of programs that submit mail."),
        "credential": ("credential", "Manage the secrets that connectors log in with."),
        "signing": ("signing", "Manage the keys that mail is signed with (DKIM)."),
        "route": ("route", "Show which connector carries an address, and why the others do not."),
        "config": ("config", "Show, reload, export, import and compare configurations."),
        "service": ("service", "Print or install a systemd unit for the server."),
    },
    "Run": {
        "serve": ("serve", "Accept mail from programs and relay it, until stopped."),
        "pipe": ("pipe", "Submit one message from standard input."),
        "status": ("status", "Show whether mail is flowing: problems, numbers, queue, connectors."),
    },
    "Test": {
        "send": ("send", "Send test messages; --wait follows them to their end."),
        "probe": ("probe", "Test a session with a server stage by stage and say what stops it."),
        "talk": ("talk", "Type SMTP in a live session, with explanations of the replies."),
        "play": ("play", "Play session scripts and check their expectations."),
        "catch": ("catch", "Run a stand-in smart host that stores what it receives."),
    },
    "Trace": {
        "trace": ("trace", "Show what happened to a message, and the verdict."),
        "queue": ("queue", "Show and manage the queue."),
        "log": ("log", "Search or follow the journal, or the logs of other programs."),
        "headers": ("headers", "Show the path of a received message: each hop, its delay and TLS."),
        "notice": ("notice", "Explain delivery notices from other servers, and match them to our messages."),
        "explain": ("explain", "Explain a server's reply and what to do about it."),
    },
    "Watch": {
        "report": ("report", "Show what happened in a day, a week or a month."),
        "domain": ("domain", "Show what receivers look up about a sending domain: SPF, DKIM, DMARC and more."),
        "fleet": ("fleet", "Check, trace and compare several servers from one place, over ssh."),
        "audit": ("audit", "Show what is weak although it works, and the command that cures it."),
        "alarm": ("alarm", "Manage alarms: what is watched, and who is told."),
        "metrics": ("metrics", "Print the numbers that monitoring programs collect."),
        "rehearse": ("rehearse", "Rehearse an outage, a burst or a change on a simulated queue."),
    },
    "Learn": {
        "demo": ("demo", "Run a day of a small ferry line in half a minute."),
        "help": ("help_topics", "Show the documentation, without a network."),
    },
}


class Families(click.Group):
    """A group that knows its commands without importing them."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        """All commands, in the order of the work."""
        return [name for commands in FAMILIES.values() for name in commands]

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        """Import one command."""
        for commands in FAMILIES.values():
            if cmd_name in commands:
                module = importlib.import_module(f"copper_kite.cli.commands.{commands[cmd_name][0]}")
                command: click.Command = getattr(module, cmd_name)
                return command
        return None

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """The commands under the names of their families."""
        for family, commands in FAMILIES.items():
            with formatter.section(family):
                formatter.write_dl([(name, about) for name, (_, about) in commands.items()])

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        """Find a command; for an unknown one, suggest the nearest."""
        try:
            return super().resolve_command(ctx, args)
        except click.UsageError:
            import difflib

            near = difflib.get_close_matches(args[0], self.list_commands(ctx), 1)
            hint = f" Did you mean {near[0]!r}?" if near else " `kite --help` lists the commands."
            ctx.fail(f"No command {args[0]!r}.{hint}")


@click.group(cls=Families, context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100})
@click.option(
    "--config", metavar="FILE", help="The configuration; else $KITE_CONFIG, ~/.config/copper-kite/, /etc/copper-kite/."
)
@click.version_option(__version__, prog_name="kite", message="%(prog)s %(version)s")
@click.pass_context
def kite(ctx: click.Context, config: str | None) -> None:
    """A send-only mail server: it accepts mail from programs, queues, relays and traces it.

    Start with `kite demo`, which needs nothing.
    """
    ctx.obj = config


def run_command_line(argv: list[str] | None = None) -> Any:
    """Run the command line; errors of the product become one message and an exit status."""
    try:
        return kite.main(argv, prog_name="kite")
    except KiteError as error:
        _complain(str(error))
        sys.exit(error.exit_code)
    except PermissionError as error:
        if error.filename is None:
            _complain(words_of_fault(error))
            sys.exit(UNEXPECTED)
        _complain(str(NotReadable(str(error.filename))))
        sys.exit(NotReadable.exit_code)
    except BrokenPipeError:
        sys.stderr.close()  # the reader of our output has gone: there is nowhere to report it
        sys.exit(1)
    except Exception as error:
        if os.environ.get("KITE_TRACEBACK"):
            raise
        _complain(words_of_fault(error))
        sys.exit(UNEXPECTED)


def _complain(text: str) -> None:
    from copper_kite.cli.output.show import echo

    echo(f"kite: {text}", err=True)


def words_of_fault(error: Exception) -> str:
    """An unexpected exception in terms that help an administrator."""
    if type(error).__module__ == "sqlite3":
        return (
            f"the queue's database cannot be used ({error})\n  it may be damaged: stop the server, and copy the folder"
        )
    from copper_kite.relay import place_of

    problem = f"{type(error).__name__}: {error}"[:500]
    return f"an error of this program's own ({problem}; {place_of(error)})\n  KITE_TRACEBACK=1 shows more, for a report"
