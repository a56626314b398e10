"""`kite domain`."""

from __future__ import annotations

import asyncio
import time
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from copper_kite.cli.output.show import echo, print_json, print_table, print_verdict, say, verdict_json
from copper_kite.cli.shared.options import json_option, load_settings

if TYPE_CHECKING:
    from copper_kite.net import Lookups
    from copper_kite.posture import Difference, DomainReport, Line, TxtRecord
    from copper_kite.settings import Loaded
    from copper_kite.verdict import Verdict

__all__ = ["COLOURS", "domain", "lookups_of", "print_records"]

COLOURS = {"good": "green", "wrong": "bold red", "missing": "bold red", "unknown": "yellow"}


@click.command()
@click.argument("names", nargs=-1, metavar="[NAME]...")
@click.option("--selector", "selectors", multiple=True, help="Also look for the DKIM key with this selector.")
@click.option("--seconds", type=click.FloatRange(0.1, 60), default=5.0, show_default=True, help="Time for each answer.")
@click.option("--records", is_flag=True, help="Print the records to publish, as lines of a zone file.")
@click.option(
    "--expect",
    "expected",
    type=click.Path(exists=True, dir_okay=False, path_type=Path),
    help="Compare what is published with this zone file.",
)
@json_option
@click.pass_context
def domain(
    ctx: click.Context,
    names: tuple[str, ...],
    selectors: tuple[str, ...],
    seconds: float,
    records: bool,
    expected: Path | None,
    as_json: bool,
) -> None:
    """Show what receivers look up about a sending domain: MX, SPF, DKIM, DMARC, reverse DNS and more.

    Without a NAME, all domains that the configuration sends from. Exits with 1 when a record is missing or wrong.
    """
    from copper_kite.errors import InputError
    from copper_kite.posture import sending_domains

    loaded = load_settings(ctx.obj)
    domains = [_checked(name) for name in names] or sending_domains(loaded)
    if not domains and expected is None:
        raise InputError("the configuration names no domain; write [identity] domain, or name one", usage=True)
    if expected is not None:
        differences, count = asyncio.run(_compare(loaded, expected, seconds))
        _show_differences(differences, count, expected, as_json=as_json)
        ctx.exit(1 if differences else 0)
    if records:
        _show_records(asyncio.run(_to_publish(domains, loaded, seconds)), as_json=as_json)
        return
    reports = asyncio.run(_examine(domains, loaded, seconds, selectors))
    if as_json:
        verdict = verdict_json(_verdict(reports))
        print_json({"domains": [_report_json(report) for report in reports], "verdict": verdict})
    else:
        for report in reports:
            _show_report(report)
        print_verdict(_verdict(reports))
    ctx.exit(1 if any(report.bad for report in reports) else 0)


def _checked(name: str) -> str:
    from copper_kite.errors import InputError
    from copper_kite.settings import check_domain

    try:
        return check_domain(name.rstrip("."))
    except ValueError as error:
        raise InputError(str(error), usage=True) from error


def lookups_of(loaded: Loaded, seconds: float) -> Lookups:
    """Questions to the resolver of a configuration. Only within a running loop."""
    from copper_kite.net import Lookups
    from copper_kite.routing import dns_of

    return Lookups(dns_of(loaded), seconds)


async def _examine(
    domains: list[str], loaded: Loaded, seconds: float, selectors: tuple[str, ...]
) -> list[DomainReport]:
    from copper_kite.posture import examine_domains

    lookups = lookups_of(loaded, seconds)
    return await examine_domains(domains, loaded, lookups, time.time(), selectors, _certificates(loaded))


def _certificates(loaded: Loaded) -> list[tuple[str, str, float]]:
    """Of listeners and next hops, where there is a queue."""
    from copper_kite.errors import KiteError
    from copper_kite.store import open_store
    from copper_kite.trace import certificate_ends

    try:
        with open_store(loaded.data).reader() as reader:
            return certificate_ends(loaded, reader)
    except KiteError:
        return []


async def _compare(loaded: Loaded, file: Path, seconds: float) -> tuple[list[Difference], int]:
    from copper_kite.posture import compare_published

    return await compare_published(file, lookups_of(loaded, seconds))


async def _to_publish(domains: list[str], loaded: Loaded, seconds: float) -> list[str]:
    from copper_kite.posture import Question, own_addresses, records_to_publish

    lookups = lookups_of(loaded, seconds)
    addresses = await own_addresses(loaded, lookups)
    now = time.time()
    return await records_to_publish([Question(name, lookups, loaded, now, (), addresses) for name in domains])


def _show_records(lines: list[str], *, as_json: bool) -> None:
    if as_json:
        print_json([line for line in lines if not line.startswith(";")])
        return
    for line in lines:
        echo(line)


def _show_report(report: DomainReport) -> None:
    say((report.domain, "bold"))
    print_table(
        ("", "looked at", "of", "result"),
        [
            (line.grade.value, line.topic, _of(line, report.domain), line.text + " (DNSSEC)" * line.secure)
            for line in report.lines
        ],
        wraps=True,
        colours=COLOURS,
    )
    _show_details(report)
    echo()


def _show_details(report: DomainReport) -> None:
    """The tree of SPF, and the records to publish."""
    if len(report.spf_tree) > 1:
        echo()
        say(("SPF, with what it includes", "bold"))
        for text in report.spf_tree:
            echo(f"  {text}")
    publish = list(dict.fromkeys(line.publish for line in report.lines if line.publish is not None))
    if publish:
        echo()
        say(("to publish", "bold"))
        print_records(publish)


def print_records(records: list[TxtRecord]) -> None:
    """Lines of a zone file, never wrapped, so that they can be copied."""
    for record in records:
        echo(record.line)


def _of(line: Line, name: str) -> str:
    return line.of.removesuffix("." + name) if line.of != name else ""


def _verdict(reports: list[DomainReport]) -> Verdict:
    from copper_kite.verdict import Verdict
    from copper_kite.words import Side

    bad = [(report.domain, line) for report in reports for line in report.lines if line.grade.bad]
    if not bad:
        names = ", ".join(report.domain for report in reports)
        return Verdict(None, f"Receivers find what they look for about {names}.", "", "")
    name, first = min(bad, key=lambda pair: ORDER.index(pair[1].grade.value))
    more = f"; {len(bad) - 1} more above" if len(bad) > 1 else ""
    what = f"{first.topic} {first.of}" if first.of.startswith("through ") else first.topic
    state = "cannot be told" if first.grade.value == "unknown" else f"is {first.grade.value}"
    meaning = f"{name}: {what} {state}{more}."
    side = Side.PATH if first.text.startswith("nobody answers") else Side.HERE
    return Verdict(side, meaning, f"{first.of}: {first.text}", f"kite domain {name} --records")


ORDER = ("wrong", "missing", "unknown")


def _report_json(report: DomainReport) -> dict[str, Any]:
    return {
        "domain": report.domain,
        "good": not report.bad,
        "lines": [
            {
                "about": line.topic,
                "of": line.of,
                "grade": line.grade.value,
                "text": line.text,
                "dnssec": line.secure,
                "publish": line.publish.line if line.publish else None,
            }
            for line in report.lines
        ],
        "spf_tree": report.spf_tree,
    }


def _show_differences(differences: list[Difference], count: int, file: Path, *, as_json: bool) -> None:
    if as_json:
        print_json([_difference_json(difference) for difference in differences])
        return
    for difference in differences:
        say((f"{difference.name} {difference.kind}", "bold"))
        for text in difference.expected:
            if text not in difference.published:
                echo(f"  expected   {text}")
        for text in difference.published:
            if text not in difference.expected:
                echo(f"  published  {text}")
        if difference.why:
            echo(f"  {difference.why}")
    told = f"{len(differences)} of {count} sets of records differ from {file}"
    echo(told if differences else f"all {count} sets of records are published as {file} says")


def _difference_json(difference: Difference) -> dict[str, Any]:
    return {
        "name": difference.name,
        "type": difference.kind,
        "expected": difference.expected,
        "published": difference.published,
        "why": difference.why or None,
    }
