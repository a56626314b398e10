"""`kite report`."""

from __future__ import annotations

import contextlib
import time
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from copper_kite.cli.output.show import echo, print_json
from copper_kite.cli.shared.completion import complete_names
from copper_kite.cli.shared.options import INSTANT, json_option, load_settings, queue_place
from copper_kite.errors import InputError

if TYPE_CHECKING:
    from copper_kite.report import Period, Report
    from copper_kite.settings import Loaded
    from copper_kite.store import Reader, StorePlace

__all__ = ["report"]


@click.command()
@click.option("--day", metavar="[DATE]", is_flag=False, flag_value="today", help="One day; without DATE, today.")
@click.option("--week", is_flag=True, help="The last 7 days.")
@click.option("--month", is_flag=True, help="The last 30 days.")
@click.option("--since", type=INSTANT, metavar="TIME", help="From this time on, as in '3d ago' or 2026-05-04.")
@click.option("--until", type=INSTANT, metavar="TIME", help="Up to this time; with --since.")
@click.option("--connector", metavar="NAME", shell_complete=complete_names("connector"), help="Only this connector.")
@click.option("--to", "domain", metavar="DOMAIN", help="Only recipients in this domain, or in *.domain.")
@click.option("--from", "who", metavar="NAME", help="Only what this account, local user or client address submitted.")
@click.option("--html", metavar="FILE", help="Also write it as one HTML page with figures.")
@click.option("--mail", metavar="ADDRESS", help="Also send it there, as text and HTML with figures.")
@click.option("--verify", is_flag=True, help="Compare the counts with the journal; exit 1 if they differ.")
@click.option("--tls", is_flag=True, help="Show how TLS went with the mail exchangers of each domain.")
@json_option
@click.pass_context
def report(ctx: click.Context, /, as_json: bool, verify: bool, tls: bool, **given: Any) -> None:
    """Show what happened in a period, beside the period before; by default, in the last 24 hours.

    Numbers by connector, sender and domain; delays; what failed or was delayed, why, and what to do; outages;
    allowances; senders that sent more or less than usual. The numbers are kept by the hour for two years.
    """
    from copper_kite.cli.output.report_output import report_json, show_report
    from copper_kite.report import make_report
    from copper_kite.store import CountFilter, open_store

    now, loaded = time.time(), load_settings(ctx.obj)
    period = _period(now, given)
    if tls:
        _show_tls(loaded, queue_place(ctx.obj), period, as_json=as_json)
        return
    with open_store(queue_place(ctx.obj)).reader() as reader:
        if verify:
            ctx.exit(_verify(reader, period, as_json=as_json))
        only = CountFilter(given["connector"] or "", given["who"] or "", (given["domain"] or "").lower())
        made = make_report(reader, loaded, period, now, only)
    if given["html"]:
        _write_page(Path(given["html"]), made, loaded.server_name)
    if given["mail"]:
        _mail(given["mail"], made, loaded)
    if as_json:
        print_json(report_json(made))
    elif not given["html"] and not given["mail"]:
        show_report(made)


def _show_tls(loaded: Loaded, place: StorePlace, period: Period, *, as_json: bool) -> None:
    from copper_kite.cli.output.tls_output import print_tls, tls_json
    from copper_kite.report import collect_tls
    from copper_kite.store import open_store

    connectors = {entry.name for entry in loaded.settings.connector if entry.mx}
    history = open_store(place).history()
    try:
        domains = collect_tls(history.between(period.start, period.end), connectors)
    finally:
        history.close()
    if as_json:
        print_json(tls_json(domains))
    else:
        print_tls(domains, period.title)


def _mail(to: str, made: Report, loaded: Loaded) -> None:
    """Submit it to the running server over its Unix socket. Raises InputError, HandOverFailed."""
    from copper_kite.cli.commands.pipe_command import submission_socket
    from copper_kite.report import report_message
    from copper_kite.session import Parcel, hand_over
    from copper_kite.settings import check_address, sketch

    try:
        check_address(to)
    except ValueError as error:
        raise InputError(str(error), usage=True) from error
    path, sender, server = submission_socket(sketch(str(loaded.path))), loaded.postmaster, loaded.server_name
    with _extra_packages():
        content = report_message(made, server, sender=sender, to=to, id=f"{time.time_ns():x}")
    echo(f"sent to {to}: {hand_over(path, server, Parcel(sender, [to], content))}", err=True)


def _write_page(path: Path, made: Report, server: str) -> None:
    from copper_kite.report import report_page

    with _extra_packages():
        page = report_page(made, server)
    try:
        path.write_text(page, "utf-8")
    except OSError as error:
        raise InputError(f"{path} cannot be written ({error.strerror})") from error
    echo(f"{path} written", err=True)


@contextlib.contextmanager
def _extra_packages() -> Iterator[None]:
    """Report a missing package of the extra that draws figures. Raises InputError."""
    try:
        yield
    except ImportError as error:
        raise InputError(f"{error.name} is missing: pip install 'copper-kite[report]'") from error


def _period(now: float, given: dict[str, Any]) -> Period:
    from copper_kite.report import last_days, one_day, since_until
    from copper_kite.settings import parse_instant

    named = [name for name in ("day", "week", "month", "since") if given[name]]
    if len(named) > 1 or (given["until"] is not None and named != ["since"]):
        raise click.UsageError("one of --day, --week, --month, or --since with --until")
    try:
        if given["day"]:
            return one_day(now if given["day"] == "today" else parse_instant(given["day"], now))
        if given["since"] is not None:
            return since_until(given["since"], min(given["until"] or now, now))
    except ValueError as error:
        raise InputError(str(error), usage=True) from error
    return last_days(7 if given["week"] else 30 if given["month"] else 1, now)


def _verify(reader: Reader, period: Period, *, as_json: bool) -> int:
    from copper_kite.cli.output.show import local_time
    from copper_kite.report import compare_counts

    recipients, differences = compare_counts(reader, period.since, period.until)
    if as_json:
        print_json({"recipients": recipients, "differences": [difference._asdict() for difference in differences]})
    elif not differences:
        echo(f"The counts of {period.title} are what the journal says: {recipients} recipients and refusals.")
    for item in () if as_json else differences:
        echo(f"{local_time(item.hour * 3600.0)}  {item.outcome}: {item.counted} counted, {item.journal} in the journal")
    return 1 if differences else 0
