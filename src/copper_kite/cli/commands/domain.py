"""`kite domain`."""

from __future__ import annotations

import asyncio
import time
from pathlib import Path
from typing import TYPE_CHECKING

import click

from copper_kite.cli.output.domain_output import print_differences, print_record_lines, print_report, report_json
from copper_kite.cli.output.show import print_json, print_verdict, verdict_json
from copper_kite.cli.shared.options import checked_domain, json_option, load_settings, lookups_of

if TYPE_CHECKING:
    from copper_kite.posture import Difference, DomainReport
    from copper_kite.settings import Loaded
    from copper_kite.verdict import Verdict

__all__ = ["domain"]

WORST_FIRST = ("wrong", "missing", "unknown")


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
    domains = [checked_domain(name) for name in names] or sending_domains(loaded)
    if not domains and expected is None:
        raise InputError("the configuration names no domain; write [identity] domain, or name one", usage=True)
    if expected is not None:
        differences, count = asyncio.run(_compare(loaded, expected, seconds))
        print_differences(differences, count, expected, as_json=as_json)
        ctx.exit(1 if differences else 0)
    if records:
        print_record_lines(asyncio.run(_to_publish(domains, loaded, seconds)), as_json=as_json)
        return
    reports = asyncio.run(_examine(domains, loaded, seconds, selectors))
    if as_json:
        verdict = verdict_json(_verdict(reports))
        print_json({"domains": [report_json(report) for report in reports], "verdict": verdict})
    else:
        for report in reports:
            print_report(report)
        print_verdict(_verdict(reports))
    ctx.exit(1 if any(report.bad for report in reports) else 0)


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
        with open_store(loaded.store).reader() as reader:
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


def _verdict(reports: list[DomainReport]) -> Verdict:
    from copper_kite.verdict import Verdict
    from copper_kite.words import Side

    bad = [(report.domain, line) for report in reports for line in report.lines if line.grade.bad]
    if not bad:
        names = ", ".join(report.domain for report in reports)
        return Verdict(None, f"Receivers find what they look for about {names}.", "", "")
    name, first = min(bad, key=lambda pair: WORST_FIRST.index(pair[1].grade.value))
    more = f"; {len(bad) - 1} more above" if len(bad) > 1 else ""
    subject = f"{first.topic} {first.of}" if first.of.startswith("through ") else first.topic
    state = "cannot be told" if first.grade.value == "unknown" else f"is {first.grade.value}"
    meaning = f"{name}: {subject} {state}{more}."
    side = Side.PATH if first.unanswered else Side.HERE
    return Verdict(side, meaning, f"{first.of}: {first.text}", f"kite domain {name} --records")
