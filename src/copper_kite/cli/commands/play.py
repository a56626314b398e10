"""`kite play`."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Sequence
from importlib import resources
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from copper_kite.cli.output.probe_output import milliseconds, print_dialogue
from copper_kite.cli.output.show import echo, print_json, print_table, print_verdict, say, verdict_json
from copper_kite.cli.shared.options import Endpoints, json_option
from copper_kite.cli.shared.target import SUBMISSION_PORT, Target, credentials_of, find_target, target_options
from copper_kite.errors import InputError

if TYPE_CHECKING:
    from copper_kite.session import Played, Script

__all__ = ["play"]

COLOURS = {"ok": "green", "known": "yellow", "FAILED": "bold red", "mended": "bold red"}


@click.command()
@click.argument("scripts", nargs=-1, metavar="[SCRIPT]...")
@click.option(
    "--server",
    type=Endpoints(SUBMISSION_PORT),
    metavar="HOST[:PORT]",
    help="Server to play against, unless a script connects elsewhere.",
)
@click.option("--shipped", is_flag=True, help="Play the scripts that kite ships with.")
@click.option("--list", "listed", is_flag=True, help="List the scripts that kite ships with.")
@click.option("--set", "settings", multiple=True, metavar="NAME=VALUE", help="Give a variable a value.")
@click.option("--junit", metavar="FILE", help="Also write the results as JUnit XML, for build servers.")
@click.option("--dialogue", is_flag=True, help="Show the whole dialogue of a script that failed.")
@json_option
@click.pass_context
def play(ctx: click.Context, /, scripts: tuple[str, ...], **given: Any) -> None:
    """Play session scripts, and check what they expect: docs/session-scripts.md.

    SCRIPT is a file, or the name of a script that kite ships with (`kite play --list`).

    Exit 0 when all went as they say, 1 when an expectation failed.
    """
    if given["listed"]:
        _list(as_json=given["as_json"])
        return
    target = find_target(ctx.obj, given.pop("server"), given, needed=False)
    found = [_find(name) for name in (*scripts, *(_shipped_names() if given["shipped"] else ()))]
    if not found:
        raise InputError("name a script, or play those that kite ships with: --shipped", usage=True)
    played = asyncio.run(_play_all(found, target, _variables(given["settings"], found)))
    if given["junit"]:
        _write_junit(Path(given["junit"]), played)
    if given["as_json"]:
        print_json([_json(one) for one in played])
    else:
        _print(played, dialogue=given["dialogue"])
    ctx.exit(0 if all(one.good for one in played) else 1)


def _variables(settings: Sequence[str], scripts: Sequence[Script]) -> dict[str, str]:
    from copper_kite.cli.shared.editing import near

    known = sorted({name for script in scripts for name in script.names})
    found = {}
    for text in settings:
        name, equals, value = text.partition("=")
        if not equals or not name:
            raise click.BadParameter(f"{text!r}: write it as NAME=VALUE", param_hint="--set")
        if name not in known:
            raise near(name, known, "variable")
        found[name] = value
    return found


def _shipped_names() -> list[str]:
    files = resources.files("copper_kite.session").joinpath("scripts").iterdir()
    return sorted(file.name.removesuffix(".session") for file in files if file.name.endswith(".session"))


def _find(name: str) -> Script:
    from copper_kite.session import parse_script, read_script

    if name in _shipped_names() and not Path(name).exists():
        file = resources.files("copper_kite.session").joinpath("scripts", f"{name}.session")
        return parse_script(Path(f"{name}.session"), file.read_text("utf-8"))
    return read_script(Path(name))


def _list(*, as_json: bool) -> None:
    scripts = [(name, _find(name)) for name in _shipped_names()]
    if as_json:
        print_json([{"script": name, "title": one.title, "variables": sorted(one.names)} for name, one in scripts])
        return
    print_table(("script", "what it checks"), [(name, one.title) for name, one in scripts], wraps=True)


async def _play_all(scripts: Sequence[Script], target: Target, variables: dict[str, str]) -> list[Played]:
    from copper_kite.session import play_script

    credentials = credentials_of(target.loaded, [])
    return [await play_script(script, target.plan, variables, credentials, target.facts) for script in scripts]


def _print(played: Sequence[Played], *, dialogue: bool) -> None:
    print_table(
        ("", "script", "time", "checks", "what it says"),
        [
            (one.outcome, one.script.path.name, milliseconds(one.seconds), str(one.expectations), one.script.title)
            for one in played
        ],
        right=("time", "checks"),
        wraps=True,
        colours=COLOURS,
    )
    for one in played:
        if one.failed is not None and one.verdict is not None:
            _print_failure(one, dialogue=dialogue)
        elif one.outcome == "mended":
            echo()
            say(f"{one.script.path} no longer fails: take its known fault out ({one.script.known_fault})")
    good = sum(one.good for one in played)
    echo()
    say((f"{good} of {len(played)} went as they say", "bold"))


def _print_failure(one: Played, *, dialogue: bool) -> None:
    assert one.failed is not None and one.verdict is not None
    failed = one.failed
    echo()
    say((f"{one.script.path}:{failed.step.line}", "bold"), f"  {failed.step}")
    say(f"expected  {failed.expected}", indent=2)
    say(f"came      {failed.came}", indent=2)
    if one.outcome == "known":
        say(f"a known fault: {one.script.known_fault}", indent=2)
    if dialogue:
        print_dialogue(one.dialogue.export())
    print_verdict(one.verdict)


def _json(one: Played) -> dict[str, Any]:
    failed = one.failed
    return {
        "script": str(one.script.path),
        "title": one.script.title,
        "outcome": one.outcome.lower(),
        "good": one.good,
        "seconds": round(one.seconds, 4),
        "expectations": one.expectations,
        "failed": None
        if failed is None
        else {
            "line": failed.step.line,
            "step": str(failed.step),
            "expected": failed.expected,
            "came": failed.came,
        },
        "dialogue": one.dialogue.export(),
        "verdict": verdict_json(one.verdict) if one.verdict else None,
    }


def _write_junit(path: Path, played: Sequence[Played]) -> None:
    """The results in the form that build servers read."""
    from xml.etree import ElementTree

    suite = ElementTree.Element(
        "testsuite",
        name="kite play",
        tests=str(len(played)),
        failures=str(sum(not one.good for one in played)),
        skipped=str(sum(one.outcome == "known" for one in played)),
        time=f"{sum(one.seconds for one in played):.3f}",
        timestamp=time.strftime("%Y-%m-%dT%H:%M:%S"),
    )
    for one in played:
        case = ElementTree.SubElement(
            suite, "testcase", classname=one.script.path.stem, name=one.script.title, time=f"{one.seconds:.3f}"
        )
        if one.outcome == "known":
            ElementTree.SubElement(case, "skipped", message=f"known fault: {one.script.known_fault}")
        elif one.outcome == "mended":
            ElementTree.SubElement(case, "failure", message=f"no longer fails: {one.script.known_fault}")
        elif one.failed is not None and one.verdict is not None:
            failed, verdict = one.failed, one.verdict
            message = f"line {failed.step.line}: expected {failed.expected}, came {failed.came}"
            failure = ElementTree.SubElement(case, "failure", message=message)
            failure.text = f"{one.script.path}:{failed.step.line}  {failed.step}; {verdict.meaning}"
    suites = ElementTree.Element("testsuites")
    suites.append(suite)
    ElementTree.indent(suites)
    ElementTree.ElementTree(suites).write(path, encoding="utf-8", xml_declaration=True)


target_options(play)
