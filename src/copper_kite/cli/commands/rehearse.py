"""`kite rehearse`."""

from __future__ import annotations

import contextlib
import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click
from click.core import ParameterSource

from copper_kite.cli.output.show import echo, print_json
from copper_kite.cli.shared.options import json_option, load_settings, options_of, queue_place
from copper_kite.errors import InputError

if TYPE_CHECKING:
    from copper_kite.rehearsal import Basis, LoadUsed, Scenario
    from copper_kite.settings import Loaded

__all__ = ["rehearse"]

FIND_RUNS = 10  # of each value that is tried
ONE_NAME = "median; the band holds 90 % of the runs"

_REPEATED = (
    ("--down", "NAME=SPAN[@TIME]", "A next hop is away: beacon=6h@mon-08:00."),
    ("--slow", "NAME=Nx[:SPAN@TIME]", "It takes N times as long: beacon=10x."),
    ("--refuse", "DOMAIN=CODE[:SPAN]", "A domain is refused: passenger.example=451:2h."),
    ("--service", "NAME=RATE", "What a next hop takes: beacon=1/s in all, beacon=200ms for a message."),
    ("--allowance", "NAME=N/PERIOD", "An allowance: beacon=200/day."),
    ("--set", "KEY=VALUE", "A key: connector.beacon.sessions=5, retry.waits=1m,5m."),
    ("--without", "CONNECTOR", "A connector is not there."),
    ("--burst", "N[@TIME][/WHO]", "Messages come at once: 20000@09:00/ticketing."),
)
_SINGLE = (
    ("--rate", "N/UNIT", "So many messages arrive, instead of a history: 600/h."),
    ("--load", "FACTOR", "How many times as much arrives as before."),
    ("--replay", "DATE", "The messages of that day, again."),
    ("--start", "DAY", "The first day, as mon or 2026-12-01; by default tomorrow."),
    ("--for", "SPAN", "How long messages arrive; by default until the midnight after all of it."),
)
OPTIONS = options_of(
    [click.option(name, f"{name[2:]}_", multiple=True, metavar=form, help=text) for name, form, text in _REPEATED]
    + [click.option(name, f"{name[2:]}_", metavar=form, help=text) for name, form, text in _SINGLE]
)


@click.command()
@OPTIONS
@click.option("--scenario", metavar="FILE", help="Read all of this from a TOML file; options come on top.")
@click.option("--schema", is_flag=True, help="Print the JSON Schema of scenario files.")
@click.option("--config", metavar="FILE", help="Compare with this configuration, on the same random numbers.")
@click.option(
    "--find", metavar="WHAT", help="Find the value that meets --goal: sessions, waits, allowance, beacon.sessions."
)
@click.option("--goal", metavar="GOAL", help="As in 'p95 delay < 30m', 'largest queue < 1000', 'expired < 1'.")
@click.option(
    "--runs", metavar="N", type=click.IntRange(1, 100_000), default=40, show_default=True, help="How often, at most."
)
@click.option(
    "--width",
    metavar="SHARE",
    type=click.FloatRange(0, 1),
    default=0.02,
    show_default=True,
    help="Stop when the medians are known to this share; 0 never stops early.",
)
@click.option(
    "--seed",
    metavar="N",
    type=int,
    default=1,
    show_default=True,
    help="Chance begins here; the same seed repeats a run.",
)
@click.option("--png", metavar="FILE", help="Also draw it.")
@click.option("--html", metavar="FILE", help="Also write it as a page.")
@click.option("--csv", metavar="FILE", help="Also write the curves as a table.")
@json_option
@click.pass_context
def rehearse(ctx: click.Context, /, as_json: bool, schema: bool, **given: Any) -> None:
    """Rehearse an outage, a burst or a change on a simulated queue.

    Says how long the queue becomes, when it is empty again, how late mail is, who gets notices and what expires. The
    decisions are the server's own; how much arrives and what next hops do comes from the history, or from options.
    Nothing is sent. Exit 1 if mail would expire, or more comes than can leave.
    """  # fmt: skip
    with _extra_packages():
        if schema:
            from copper_kite.rehearsal import scenario_schema

            print_json(scenario_schema())
            return
        scenario, loaded = _scenario(given), load_settings(ctx.obj)
        from copper_kite.rehearsal import basis_of

        basis, load = basis_of(loaded, scenario, queue_place(ctx.obj), time.time())
        if bool(given["find"]) is not bool(given["goal"]):
            raise click.UsageError("--find and --goal go together")
        if given["find"]:
            ctx.exit(_find(basis, scenario, given, as_json=as_json))
        other = load_settings(given["config"]) if given["config"] else None
        ctx.exit(_rehearse(basis, scenario, load, other, given, as_json=as_json))


@contextlib.contextmanager
def _extra_packages() -> Iterator[None]:
    """Report a missing package of the extra. Raises InputError."""
    try:
        yield
    except ModuleNotFoundError as error:
        raise InputError(f"{error.name} is missing: pip install 'copper-kite[rehearse]'") from error


def _scenario(given: dict[str, Any]) -> Scenario:
    from copper_kite.rehearsal import read_scenario, scenario_of

    keys = {name[:-1]: value for name, value in given.items() if name.endswith("_")}
    if keys["load"] is not None:
        keys["load"] = _number(keys["load"])
    base = read_scenario(Path(given["scenario"])) if given["scenario"] else None
    return scenario_of(keys, base)


def _number(text: str) -> float:
    try:
        return float(text)
    except ValueError:
        raise InputError(f"load: {text!r} is no number; write it as 1.5", usage=True) from None


def _rehearse(
    basis: Basis, scenario: Scenario, load: LoadUsed, other: Loaded | None, given: dict[str, Any], *, as_json: bool
) -> int:
    from copper_kite.cli.output.rehearsal_output import rehearsal_json, show_rehearsal
    from copper_kite.rehearsal import conclude, run_many

    named = [("as it is" if other is not None else ONE_NAME, basis)]
    if other is not None:
        named.append((given["config"], basis._replace(loaded=other)))
    rehearsals = [(name, each.prepared(scenario)) for name, each in named]
    results = []
    for name, rehearsal in rehearsals:
        with _progress(given["runs"]) as progress:
            bands = run_many(rehearsal, given["runs"], given["seed"], given["width"], progress)
        results.append((name, bands))
    conclusions = [conclude(rehearsal, bands) for (_, rehearsal), (_, bands) in zip(rehearsals, results, strict=True)]
    first = rehearsals[0][1]
    _write_files(first, results, conclusions[0], given)
    if as_json:
        objects = [
            rehearsal_json(rehearsal, bands, conclusion, load)
            for (_, rehearsal), (_, bands), conclusion in zip(rehearsals, results, conclusions, strict=True)
        ]
        print_json(objects[0] if other is None else {**objects[0], "compared": {given["config"]: objects[1]}})
    else:
        show_rehearsal(first, results, conclusions, load)
    return int(any(conclusion.bad for conclusion in conclusions))


def _write_files(rehearsal: Any, results: list[Any], conclusion: Any, given: dict[str, Any]) -> None:
    from copper_kite.cli.output.rehearsal_output import curves_csv, tables_of
    from copper_kite.rehearsal import Drawn, picture, picture_page

    drawn = Drawn(results, rehearsal.troubles)
    title = rehearsal.scenario.title or f"A rehearsal of {rehearsal.loaded.server_name}"
    wanted: list[tuple[str | None, Callable[[], bytes]]] = [
        (given["png"], lambda: picture(drawn).png),
        (given["html"], lambda: picture_page(drawn, conclusion, title, tables_of(results)).encode()),
        (given["csv"], lambda: curves_csv(results).encode()),
    ]
    for path, content in wanted:
        if path:
            try:
                Path(path).write_bytes(content())
            except OSError as error:
                raise InputError(f"{path} cannot be written ({error.strerror})") from error
            echo(f"{path} written", err=True)


def _find(basis: Basis, scenario: Scenario, given: dict[str, Any], *, as_json: bool) -> int:
    from copper_kite.cli.output.rehearsal_output import found_json, show_found
    from copper_kite.rehearsal import find_value, parse_goal

    goal = parse_goal(given["goal"])
    source = click.get_current_context().get_parameter_source("runs")
    runs = given["runs"] if source is ParameterSource.COMMANDLINE else FIND_RUNS
    shown = sys.stderr.isatty()

    def progress(value: str) -> None:
        if shown:
            click.echo(f"\r{given['find']} = {value:<30}", nl=False, err=True)

    result = find_value(basis, scenario, given["find"], goal, runs, given["seed"], progress)
    if shown:
        click.echo("\r" + " " * 60 + "\r", nl=False, err=True)
    if as_json:
        print_json(found_json(result))
    else:
        show_found(result)
    return 0 if result.value is not None else 1


@contextlib.contextmanager
def _progress(runs: int) -> Iterator[Callable[[int], None]]:
    """Show on a terminal how many runs are done."""
    shown = sys.stderr.isatty()

    def tell(done: int) -> None:
        if shown:
            click.echo(f"\rrun {done} of at most {runs} ", nl=False, err=True)

    try:
        yield tell
    finally:
        if shown:
            click.echo("\r" + " " * 40 + "\r", nl=False, err=True)
