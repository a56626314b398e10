"""`kite audit`."""

from __future__ import annotations

import asyncio
import shlex
import subprocess
import sys
import time
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import click

from copper_kite.cli.output.show import echo, print_json, say
from copper_kite.cli.output.typed_commands import typed
from copper_kite.cli.shared.editing import change, near
from copper_kite.cli.shared.options import json_option, load_settings, lookups_of

if TYPE_CHECKING:
    from copper_kite.posture import Audited, DomainReport, Weakness
    from copper_kite.settings import Document, Loaded

__all__ = ["audit"]

SECONDS = 3.0  # for each answer of the resolver


@click.group(invoke_without_command=True)
@click.option("--fix", is_flag=True, help="Apply the cures that are safe, after showing them.")
@click.option("--yes", is_flag=True, help="Do not ask.")
@click.option("--offline", is_flag=True, help="Do not look the domains up in DNS.")
@json_option
@click.pass_context
def audit(ctx: click.Context, fix: bool, yes: bool, offline: bool, as_json: bool) -> None:
    """Show what is weak although it works: the harm it can do, and the command that cures it.

    Exits with 1 when something is open. What is meant is accepted with a reason: kite audit accept.
    """
    if ctx.invoked_subcommand is not None:
        return
    audited = _audit(load_settings(ctx.obj, secrets=True), offline=offline)
    safe = [weakness for weakness in audited.open if weakness.safe]
    if fix and safe and not as_json:
        _fix(safe, yes=yes)
        audited = _audit(load_settings(ctx.obj, secrets=True), offline=offline)
    if as_json:
        print_json(_json(audited))
    else:
        _show(audited)
    ctx.exit(1 if audited.open else 0)


def _audit(loaded: Loaded, *, offline: bool) -> Audited:
    from copper_kite.posture import audit_configuration, look_around

    now = time.time()
    reports = [] if offline else asyncio.run(_reports(loaded, now))
    return audit_configuration(loaded, look_around(loaded), reports, now, time.strftime("%Y-%m-%d"))


async def _reports(loaded: Loaded, now: float) -> Sequence[DomainReport]:
    from copper_kite.posture import examine_domains, sending_domains

    return await examine_domains(sending_domains(loaded), loaded, lookups_of(loaded, SECONDS), now)


def _typed(cure: str) -> str:
    """A cure as one types it; it may be several commands."""
    return " && ".join(map(typed, cure.split(" && ")))


def _show(audited: Audited) -> None:
    for weakness in audited.open:
        of = f" {weakness.of}" if weakness.of else ""
        say((weakness.risk, "bold yellow"), f"{of}: {weakness.text}")
        say(f"harm: {weakness.harm}", indent=2)
        echo(f"  cure: {_typed(weakness.cure)}")  # not wrapped: it is to be pasted
        if weakness.advice:
            say(weakness.advice, indent=8)
        echo()
    for weakness, reason in audited.accepted:
        of = f" {weakness.of}" if weakness.of else ""
        say(("accepted", "bold"), f" {weakness.risk}{of}: {weakness.text} (“{reason}”)")
    if audited.accepted:
        echo()
    safe = sum(weakness.safe for weakness in audited.open)
    count = len(audited.open)
    told = f"{count} weakness{'es' * (count != 1)} open" if count else "nothing is open"
    echo(f"{told}, {len(audited.accepted)} accepted" + (f"; --fix cures {safe} of them" if safe else ""))


def _json(audited: Audited) -> dict[str, Any]:
    return {
        "open": [_weakness_json(weakness) for weakness in audited.open],
        "accepted": [{**_weakness_json(weakness), "reason": reason} for weakness, reason in audited.accepted],
    }


def _weakness_json(weakness: Weakness) -> dict[str, Any]:
    return {
        "risk": weakness.risk,
        "of": weakness.of or None,
        "text": weakness.text,
        "harm": weakness.harm,
        "cure": _typed(weakness.cure),
        "safe": weakness.safe,
        "advice": weakness.advice or None,
    }


def _fix(weaknesses: Sequence[Weakness], *, yes: bool) -> None:
    """Show the cures and apply them."""
    for weakness in weaknesses:
        say((weakness.risk, "bold yellow"), f": {weakness.text}")
        echo(f"  {_typed(weakness.cure)}")
    if not yes:
        click.confirm(f"Apply {'these' if len(weaknesses) > 1 else 'this'}?", abort=True)
    for weakness in weaknesses:
        words = shlex.split(_typed(weakness.cure))
        program = [sys.executable, "-m", "copper_kite"] if words[0] == "kite" else words[:1]
        done = subprocess.run([*program, *words[1:]], check=False, capture_output=True, text=True)
        said = (done.stdout or done.stderr).strip().splitlines()
        echo(f"{weakness.risk}: {'done' if not done.returncode else said[-1] if said else 'failed'}")
    echo()


@audit.command("accept")
@click.argument("risk")
@click.argument("of", default="")
@click.option("--reason", required=True, help="Why it is as it should be.")
@click.pass_context
def accept(ctx: click.Context, risk: str, of: str, reason: str) -> None:
    """Accept a weakness of a kind, of one thing or of all, with a reason; it is listed and no longer open."""
    from copper_kite.posture import RISKS

    if risk not in RISKS:
        raise near(risk, list(RISKS), "kind of weakness")

    def edit(document: Document) -> None:
        document.add("accepted", {"risk": risk, **({"of": of} if of else {}), "reason": reason})

    if not change(ctx.obj, edit, f"{risk} {of}".strip() + " accepted"):
        ctx.exit(1)
