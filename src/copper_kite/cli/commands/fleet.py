"""`kite fleet`: the same command on several servers, and one answer from all."""

from __future__ import annotations

import asyncio
import shlex
import sys
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import click

from copper_kite.cli.output.fleet_output import (
    answers_json,
    print_audits,
    print_checks,
    print_comparison,
    print_crossings,
    print_queues,
    print_reports,
    print_statuses,
)
from copper_kite.cli.output.show import echo, print_json, print_table, print_verdict, say
from copper_kite.cli.shared.options import json_option

if TYPE_CHECKING:
    from copper_kite.fleet import Answered
    from copper_kite.settings import Fleet
    from copper_kite.verdict import Verdict

__all__ = ["fleet"]

NO_ANSWER = 4  # the exit status when a server does not answer
KNOWS_NOTHING = (1, 2)  # of `kite trace`, with a message and no JSON, for a message that is not there


@click.group()
@click.option("--fleet", "file", metavar="FILE", help="The servers; else $KITE_FLEET, or fleet.toml beside kite.toml.")
@click.option("--only", multiple=True, metavar="NAME", help="Only this server; repeat for several.")
@click.pass_context
def fleet(ctx: click.Context, file: str | None, only: tuple[str, ...]) -> None:
    """Check, trace and compare several servers from one place, over ssh."""
    ctx.obj = (file, only)


def _fleet(ctx: click.Context) -> Fleet:
    from copper_kite.cli.shared.editing import near
    from copper_kite.settings import read_fleet

    file, only = ctx.obj
    known = read_fleet(file)
    names = [server.name for server in known.server]
    for name in only:
        if name not in names:
            raise near(name, names, "server")
    return known.model_copy(update={"server": [server for server in known.server if not only or server.name in only]})


def _ask(
    fleet: Fleet, words: Sequence[str], *, quiet: bool, stdin: bytes = b"", as_json: bool = True
) -> list[Answered]:
    """The answers of all; on a terminal, each is announced when it comes."""
    from copper_kite.fleet import ask_all

    waits = not quiet and sys.stderr.isatty()

    def progress(answered: Answered) -> None:
        if waits:
            echo(f"{answered.server.name}: {answered.problem or 'has answered'}", err=True)

    return asyncio.run(ask_all(fleet, words, stdin=stdin, as_json=as_json, progress=progress))


def _end_as_json(ctx: click.Context, answers: Sequence[Answered], silent: Sequence[Answered]) -> None:
    print_json(answers_json(answers))
    ctx.exit(NO_ANSWER if silent else 0)


def _split(answers: Sequence[Answered]) -> tuple[list[Answered], list[Answered]]:
    """The good answers, and those of servers that gave none."""
    good = [answered for answered in answers if not answered.problem]
    return good, [answered for answered in answers if answered.problem]


def _print_silent(silent: Sequence[Answered]) -> None:
    for answered in silent:
        say((answered.server.name, "bold red"), f" at {answered.server.address}: {answered.problem}")


def _end(ctx: click.Context, answers: Sequence[Answered], *, bad: Sequence[str]) -> None:
    """Print the servers without an answer and the verdict, and exit; `bad` are the servers with a problem."""
    _, silent = _split(answers)
    if silent:
        echo()
    _print_silent(silent)
    echo()
    print_verdict(_verdict(ctx, answers, silent, bad))
    ctx.exit(NO_ANSWER if silent else 1 if bad else 0)


def _verdict(
    ctx: click.Context, answers: Sequence[Answered], silent: Sequence[Answered], bad: Sequence[str]
) -> Verdict:
    from copper_kite.verdict import Verdict
    from copper_kite.words import Side

    if silent:
        first = silent[0]
        names = ", ".join(answered.server.name for answered in silent)
        command = shlex.join(["ssh", "-o", "BatchMode=yes", first.server.address, first.server.command, "--version"])
        return Verdict(Side.PATH, f"{names} of {len(answers)} servers did not answer.", first.problem, command)
    if bad:
        meaning = f"There are problems at {', '.join(bad)}; all {len(answers)} servers answered."
        file = ctx.obj[0]
        words = ["kite", "fleet", *(["--fleet", file] if file else []), "--only", bad[0], "check"]
        return Verdict(Side.HERE, meaning, "the lines above", shlex.join(words))
    return Verdict(None, f"All {len(answers)} servers answered, without problems.", "", advice="nothing to do")


def _command(name: str, about: str, words: Sequence[str], show: Any) -> None:
    """A command that takes nothing but --json."""

    @fleet.command(name, help=about)
    @json_option
    @click.pass_context
    def command(ctx: click.Context, as_json: bool) -> None:
        _ask_and_show(ctx, [*words, "--json"], show, as_json=as_json)


def _ask_and_show(ctx: click.Context, words: Sequence[str], show: Any, *, as_json: bool) -> None:
    answers = _ask(_fleet(ctx), words, quiet=as_json)
    good, silent = _split(answers)
    if as_json:
        _end_as_json(ctx, answers, silent)
    _end(ctx, answers, bad=show(good))


_command("status", "Show for each server whether mail is flowing.", ["status"], print_statuses)
_command("check", "Check the configuration of each server.", ["check"], print_checks)
_command("audit", "Show what is weak on which servers.", ["audit"], print_audits)
_command("queue", "Show what waits on all servers, together and by server.", ["queue"], print_queues)


@fleet.command("report")
@click.option("--day", is_flag=False, flag_value="today", metavar="[DATE]", help="One day; without DATE, today.")
@click.option("--week", is_flag=True, help="The last 7 days.")
@click.option("--month", is_flag=True, help="The last 30 days.")
@json_option
@click.pass_context
def report(ctx: click.Context, day: str | None, week: bool, month: bool, as_json: bool) -> None:
    """Show what happened in a period, by server and together."""
    words = ["report", *(["--day", day] if day else []), *["--week"] * week, *["--month"] * month, "--json"]
    _ask_and_show(ctx, words, print_reports, as_json=as_json)


@fleet.command("trace")
@click.argument("words", nargs=-1, required=True, metavar="WHAT...")
@json_option
@click.pass_context
def trace(ctx: click.Context, words: tuple[str, ...], as_json: bool) -> None:
    """Find a message on all servers, and show its way through them, hop by hop."""
    answers = _ask(_fleet(ctx), ["trace", *words, "--json"], quiet=as_json)
    good, silent = _split(answers)
    silent = [answered for answered in silent if answered.status not in KNOWS_NOTHING]
    if as_json:
        _end_as_json(ctx, answers, silent)
    is_known = print_crossings(good)
    _print_silent(silent)
    ctx.exit(NO_ANSWER if silent else 0 if is_known else 1)


@fleet.command("compare")
@json_option
@click.pass_context
def compare(ctx: click.Context, as_json: bool) -> None:
    """Compare the configurations by what they mean: each with that of the first. Exit 1 when they differ."""
    answers = _ask(_fleet(ctx), ["config", "export"], quiet=as_json, as_json=False)
    good, silent = _split(answers)
    bad = print_comparison(good, as_json=as_json)
    if as_json:
        ctx.exit(NO_ANSWER if silent else 1 if bad else 0)
    _end(ctx, answers, bad=bad)


@fleet.group("config")
def config() -> None:
    """Change the configuration of several servers."""


@config.command("push")
@click.argument("file", type=click.File("rb"))
@click.option("--yes", is_flag=True, help="Do not ask.")
@click.pass_context
def push(ctx: click.Context, file: Any, yes: bool) -> None:
    """Import into every server what `kite config export` wrote into FILE.

    Each keeps its own name, addresses and secrets. The differences are shown first; a server that can no longer hand
    over mail afterwards goes back to what it had.
    """
    known, text = _fleet(ctx), file.read()
    shown = _ask(known, ["config", "import", "-", "--dry-run"], quiet=False, stdin=text, as_json=False)
    for answered in shown:
        say((answered.server.name, "bold"), f": {answered.problem}" if answered.problem else "")
        echo(answered.text.rstrip())
    if any(answered.problem for answered in shown):
        echo("nothing was changed anywhere")
        ctx.exit(NO_ANSWER if any(answered.status > 3 for answered in shown) else 1)
    changing = [answered.server.name for answered in shown if answered.text.strip() != "they agree"]
    if not changing:
        echo("there is nothing to change")
        return
    if not yes:
        click.confirm(f"Apply this to {', '.join(changing)}?", abort=True)
    chosen = known.model_copy(update={"server": [server for server in known.server if server.name in changing]})
    ctx.exit(_push(chosen, text))


def _push(fleet: Fleet, text: bytes) -> int:
    """Import, test, and restore where the test fails; the exit status."""
    before = _by_name(_ask(fleet, ["config", "export"], quiet=True, as_json=False))
    imported = _ask(fleet, ["config", "import", "-", "--yes"], quiet=True, stdin=text, as_json=False)
    tested = _by_name(_ask(fleet, ["check", "--live"], quiet=True, as_json=False))
    rows, bad = [], 0
    for answered in imported:
        name, test = answered.server.name, tested[answered.server.name]
        if not answered.problem and not answered.status and not test.status:
            rows.append((name, "changed", "works"))
            continue
        bad = 1
        alone = fleet.model_copy(update={"server": [answered.server]})
        back = _ask(
            alone, ["config", "import", "-", "--yes"], quiet=True, stdin=before[name].text.encode(), as_json=False
        )
        undone = "restored" if not back[0].problem and not back[0].status else f"NOT restored: {back[0].problem}"
        rows.append((name, undone, answered.problem or test.problem or _last(test.text)))
    print_table(("server", "what", "why"), rows, wraps=True)
    return bad


def _by_name(answers: Sequence[Answered]) -> dict[str, Answered]:
    return {answered.server.name: answered for answered in answers}


def _last(text: str) -> str:
    lines = text.strip().splitlines()
    return lines[-1] if lines else "its check fails"
