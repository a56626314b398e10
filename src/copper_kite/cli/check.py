"""`kite check`."""

from __future__ import annotations

import asyncio
import time
from typing import TYPE_CHECKING, Any

import click

from copper_kite.cli.options import json_option
from copper_kite.cli.probed import print_stages, probed_json
from copper_kite.cli.show import echo, print_json, print_verdict, say

if TYPE_CHECKING:
    from copper_kite.errors import Finding
    from copper_kite.session.probe import Probed
    from copper_kite.settings.load import Loaded

__all__ = ["check", "show_findings"]

MOST = 200  # findings that anybody reads
LEVEL_COLOURS = {"error": "bold red", "warning": "yellow", "remark": "cyan"}


@click.command()
@click.option("--live", is_flag=True, help="Also walk to each connector's next hop, up to the login; no mail is sent.")
@json_option
@click.pass_context
def check(ctx: click.Context, live: bool, as_json: bool) -> None:
    """Everything wrong with the configuration, at once: where, why it matters, and what to write.

    An error keeps mail from going or lets strangers in; a warning will hurt some day; a remark may be as you want it.
    Exit 1 when there is an error, 4 when all is well but a next hop cannot be reached (--live).
    """
    from copper_kite.posture.check import check_file
    from copper_kite.settings.load import find_config

    path = find_config(ctx.obj)
    loaded, findings = check_file(path, time.time())
    probed = asyncio.run(_walk(loaded)) if live and loaded is not None else []
    if as_json:
        print_json(
            {"file": str(path), "findings": _json(findings), "next_hops": [probed_json(found) for found in probed]}
        )
    else:
        show_findings(findings)
        for found in probed:
            echo()
            say((f"{found.plan.host}:{found.plan.port}", "bold"), f", TLS {found.plan.tls}")
            print_stages(found.stages, found.failure)
            print_verdict(found.verdict)
    errors = any(finding.level == "error" for finding in findings)
    ctx.exit(1 if errors else 4 if not all(found.passed for found in probed) else 0)


def show_findings(findings: list[Finding]) -> None:
    """Each finding with its place first, so that it can be jumped to."""
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
    counts = {level: sum(finding.level == level for finding in findings) for level in LEVEL_COLOURS}
    told = ", ".join(f"{count} {level}{'' if count == 1 else 's'}" for level, count in counts.items() if count)
    say((told or "nothing to find fault with", "bold" if told else "bold green"))


async def _walk(loaded: Loaded) -> list[Probed]:
    """All enabled connectors' next hops, at the same time."""
    from copper_kite.routing.plan import make_plan
    from copper_kite.session.probe import probe

    return await asyncio.gather(
        *(
            probe(
                make_plan(loaded, entry),
                {"connector": entry.name, "config": str(loaded.path), "credential": entry.credential},
            )
            for entry in loaded.settings.connector
            if entry.enabled and entry.hosts
        )
    )


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
