"""`kite check`."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import click

from copper_kite.cli.output.show import echo, print_json, say
from copper_kite.cli.shared.options import json_option

if TYPE_CHECKING:
    from copper_kite.errors import Finding
    from copper_kite.session import Survey
    from copper_kite.settings import Connector, Loaded

__all__ = ["check", "show_findings", "show_walk", "summary", "walk"]

MOST = 200  # findings that anybody reads
LEVEL_COLOURS = {"error": "bold red", "warning": "yellow", "remark": "cyan"}


@click.command()
@click.option("--live", is_flag=True, help="Also connect to every next hop, up to MAIL; no message is sent.")
@json_option
@click.pass_context
def check(ctx: click.Context, live: bool, as_json: bool) -> None:
    """Check the configuration and list every problem: where it is, why it matters, and how to fix it.

    An error keeps mail from going or lets strangers in; a warning will hurt some day; a remark may be as you want it.
    Exit 1 when there is an error, 4 when all is well but a next hop cannot be reached (--live).
    """
    from copper_kite.posture import check_file
    from copper_kite.settings import find_config

    path = find_config(ctx.obj)
    loaded, findings = check_file(path, time.time())
    walked = asyncio.run(walk(loaded)) if live and loaded is not None else []
    if as_json:
        from copper_kite.cli.output.survey_output import survey_json

        surveys = [survey_json(entry.name, result) for entry, result in walked]
        print_json({"file": str(path), "findings": _json(findings), "connectors": surveys})
    else:
        show_findings(findings)
        show_walk(walked)
        summary(findings, walked)
    errors = any(finding.level == "error" for finding in findings)
    ctx.exit(1 if errors else 4 if not all(result.passed for _, result in walked) else 0)


def show_findings(findings: list[Finding]) -> None:
    """Print each finding with its place first, so that editors can jump to it."""
    shown = sorted(findings, key=lambda finding: finding.level != "error") if len(findings) > MOST else findings
    for finding in shown[:MOST]:
        place = finding.file if finding.line is None else f"{finding.file}:{finding.line}"
        key = f" {finding.key}" if finding.key else ""
        echo(f"{place}:{key}")  # not wrapped: programs jump to it
        say((finding.level, LEVEL_COLOURS[finding.level]), f": {finding.problem}", indent=2)
        if finding.why:
            say(f"why: {finding.why}", indent=2)
        if finding.remedy:
            say("do: ", (finding.remedy, "bold"), indent=2)
        echo()
    if len(findings) > MOST:
        say(f"… and {len(findings) - MOST} more; --json has them all")


async def walk(loaded: Loaded) -> list[tuple[Connector, Survey]]:
    """All enabled connectors with named next hops, each with what was found there, at the same time."""
    from copper_kite.cli.output.survey_output import survey_connector

    entries = [entry for entry in loaded.settings.connector if entry.enabled and not entry.mx]
    more = "kite connector test {} --dialogue"
    result = await asyncio.gather(
        *(survey_connector(loaded, entry, None, more=more.format(entry.name)) for entry in entries)
    )
    return list(zip(entries, result, strict=True))


def show_walk(walked: list[tuple[Connector, Survey]]) -> None:
    from copper_kite.cli.output.survey_output import print_survey

    for entry, result in walked:
        say((f"connector {entry.name}", "bold"), f" to {entry.where}, TLS {entry.tls}")
        print_survey(result, dialogue=False)
        echo()


def summary(findings: Sequence[Finding], walked: Sequence[tuple[Connector, Survey]]) -> None:
    """Print the summary line."""
    counts = {level: sum(finding.level == level for finding in findings) for level in LEVEL_COLOURS}
    told = [f"{count} {level}{'' if count == 1 else 's'}" for level, count in counts.items() if count]
    stopped = [entry.name for entry, result in walked if not result.passed]
    told += [f"something stops connector{'s' * (len(stopped) > 1)} {', '.join(stopped)}"] if stopped else []
    say((", ".join(told) or "no problems found", "bold" if told else "bold green"))


def _json(findings: list[Finding]) -> list[dict[str, Any]]:
    return [
        {
            "level": finding.level,
            "file": finding.file,
            "line": finding.line,
            "key": finding.key or None,
            "problem": finding.problem,
            "why": finding.why or None,
            "remedy": finding.remedy or None,
        }
        for finding in findings
    ]
