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
    results = [_find(name) for name in (*scripts, *(_shipped_names() if given["shipped"] else ()))]
    if not results:
        raise InputError("name a script, or play those that kite ships with: --shipped", usage=True)
    played = asyncio.run(_play_all(results, target, _variables(given["settings"], results)))
    if given["junit"]:
        _write_junit(Path(given["junit"]), played)
    if given["as_json"]:
        print_json([_json(item) for item in played])
    else:
        _print(played, dialogue=given["dialogue"])
    ctx.exit(0 if all(item.good for item in played) else 1)


def _variables(settings: Sequence[str], scripts: Sequence[Script]) -> dict[str, str]:
    from copper_kite.cli.shared.editing import near

    known = sorted({name for script in scripts for name in script.names})
    results = {}
    for text in settings:
        name, equals, value = text.partition("=")
        if not equals or not name:
            raise click.BadParameter(f"{text!r}: write it as NAME=VALUE", param_hint="--set")
        if name not in known:
            raise near(name, known, "variable")
        results[name] = value
    return results


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
        print_json(
            [{"script": name, "title": result.title, "variables": sorted(result.names)} for name, result in scripts]
        )
        return
    print_table(("script", "what it checks"), [(name, result.title) for name, result in scripts], wraps=True)


async def _play_all(scripts: Sequence[Script], target: Target, variables: dict[str, str]) -> list[Played]:
    from copper_kite.session import play_script

    credentials = credentials_of(target.loaded, [])
    return [await play_script(script, target.plan, variables, credentials, target.facts) for script in scripts]


def _print(played: Sequence[Played], *, dialogue: bool) -> None:
    print_table(
        ("", "script", "time", "checks", "what it says"),
        [
            (item.outcome, item.script.path.name, milliseconds(item.seconds), str(item.expectations), item.script.title)
            for item in played
        ],
        right=("time", "checks"),
        wraps=True,
        colours=COLOURS,
    )
    for item in played:
        if item.failed is not None and item.verdict is not None:
            _print_failure(item, dialogue=dialogue)
        elif item.outcome == "mended":
            echo()
            say(f"{item.script.path} no longer fails: take its known fault out ({item.script.known_fault})")
    good = sum(item.good for item in played)
    echo()
    say((f"{good} of {len(played)} went as they say", "bold"))


def _print_failure(played: Played, *, dialogue: bool) -> None:
    assert played.failed is not None and played.verdict is not None
    failed = played.failed
    echo()
    say((f"{played.script.path}:{failed.step.line}", "bold"), f"  {failed.step}")
    say(f"expected  {failed.expected}", indent=2)
    say(f"came      {failed.came}", indent=2)
    if played.outcome == "known":
        say(f"a known fault: {played.script.known_fault}", indent=2)
    if dialogue:
        print_dialogue(played.dialogue.export())
    print_verdict(played.verdict)


def _json(played: Played) -> dict[str, Any]:
    failed = played.failed
    return {
        "script": str(played.script.path),
        "title": played.script.title,
        "outcome": played.outcome.lower(),
        "good": played.good,
        "seconds": round(played.seconds, 4),
        "expectations": played.expectations,
        "failed": None
        if failed is None
        else {
            "line": failed.step.line,
            "step": str(failed.step),
            "expected": failed.expected,
            "came": failed.came,
        },
        "dialogue": played.dialogue.export(),
        "verdict": verdict_json(played.verdict) if played.verdict else None,
    }


def _write_junit(path: Path, played: Sequence[Played]) -> None:
    """The results in the form that build servers read."""
    from xml.etree import ElementTree

    suite = ElementTree.Element(
        "testsuite",
        name="kite play",
        tests=str(len(played)),
        failures=str(sum(not item.good for item in played)),
        skipped=str(sum(item.outcome == "known" for item in played)),
        time=f"{sum(item.seconds for item in played):.3f}",
        timestamp=time.strftime("%Y-%m-%dT%H:%M:%S"),
    )
    for item in played:
        case = ElementTree.SubElement(
            suite, "testcase", classname=item.script.path.stem, name=item.script.title, time=f"{item.seconds:.3f}"
        )
        if item.outcome == "known":
            ElementTree.SubElement(case, "skipped", message=f"known fault: {item.script.known_fault}")
        elif item.outcome == "mended":
            ElementTree.SubElement(case, "failure", message=f"no longer fails: {item.script.known_fault}")
        elif item.failed is not None and item.verdict is not None:
            failed, verdict = item.failed, item.verdict
            message = f"line {failed.step.line}: expected {failed.expected}, came {failed.came}"
            failure = ElementTree.SubElement(case, "failure", message=message)
            failure.text = f"{item.script.path}:{failed.step.line}  {failed.step}; {verdict.meaning}"
    suites = ElementTree.Element("testsuites")
    suites.append(suite)
    ElementTree.indent(suites)
    ElementTree.ElementTree(suites).write(path, encoding="utf-8", xml_declaration=True)


target_options(play)
