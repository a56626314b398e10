"""`kite connector`."""

from __future__ import annotations

import asyncio
import time
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from copper_kite.cli.commands.connector_retry import offer_retry
from copper_kite.cli.commands.record import add_record
from copper_kite.cli.output.probe_output import print_probed, probed_json
from copper_kite.cli.output.show import (
    echo,
    json_time,
    local_time,
    print_json,
    print_table,
    say,
)
from copper_kite.cli.output.typed_commands import asked_again
from copper_kite.cli.shared.completion import complete_names
from copper_kite.cli.shared.editing import make_family, near, plain_entry
from copper_kite.cli.shared.options import json_option, load_settings
from copper_kite.cli.shared.target import named_connector

if TYPE_CHECKING:
    from copper_kite.session import Probed, Survey
    from copper_kite.settings import Connector, Loaded
    from copper_kite.store import ConnectorState

__all__ = ["allowances_used", "connector"]

COLUMNS = (
    "name", "on", "pref", "next hop", "TLS", "trust", "login", "allowance", "last good", "last bad", "recipients"
)  # fmt: skip
Used = list[tuple[str, int, int]]  # period, how many of its allowance have left, and how many may


def _breaks(loaded: Loaded, name: str) -> list[str]:
    from copper_kite.routing import takers

    names = [entry.name for entry in loaded.settings.connector]
    if name not in names:
        raise near(name, names, "connector")
    lines = []
    for pattern, taker in takers(loaded.settings.connector, name):
        then = f"would go through {taker}" if taker else "would be carried by no connector, and wait"
        lines.append(f"mail for {pattern} {then}")
    return lines


connector = make_family("connector", "Manage how mail leaves: next hops, TLS and logins.", _breaks)
add_record(connector, "connector")


@connector.command("list")
@json_option
@click.pass_obj
def list_connectors(config: str | None, as_json: bool) -> None:
    """List all connectors with their last success and failure."""
    loaded = load_settings(config)
    states, used = _states(loaded), allowances_used(loaded)
    if as_json:
        print_json([_row_json(entry, used[entry.name], states.get(entry.name)) for entry in loaded.settings.connector])
        return
    now = time.time()
    print_table(
        COLUMNS,
        [_row(entry, used[entry.name], states.get(entry.name), now) for entry in loaded.settings.connector],
        right=("pref",),
        gap=1,
        wraps=True,
    )


def allowances_used(loaded: Loaded) -> dict[str, Used]:
    """For each connector: the period, the recipients relayed in it, and the limit."""
    from copper_kite.errors import StoreError
    from copper_kite.store import open_store
    from copper_kite.trace import UsedAllowance, used_allowances

    connectors = loaded.settings.connector
    try:
        with open_store(loaded.store).reader() as reader:
            uses = used_allowances(reader, connectors, time.time())
    except StoreError:  # it may never have been served
        uses = [UsedAllowance(entry.name, allowance, 0) for entry in connectors for allowance in entry.allowance]
    results: dict[str, Used] = {entry.name: [] for entry in connectors}
    for connector, allowance, used in uses:
        results[connector].append((allowance.period, used, allowance.count))
    return results


def _states(loaded: Loaded) -> dict[str, ConnectorState]:
    from copper_kite.errors import StoreError
    from copper_kite.store import open_store

    try:
        with open_store(loaded.store).reader() as reader:
            return {state.name: state for state in reader.connectors()}
    except StoreError:  # it may never have been served
        return {}


def _row(entry: Connector, used: Used, state: ConnectorState | None, now: float) -> tuple[str, ...]:
    return (
        entry.name,
        "yes" if entry.enabled else "no",
        str(entry.preference),
        entry.where,
        entry.tls,
        entry.trust if entry.trust == "system" else Path(entry.trust).name,
        entry.credential or "-",
        ", ".join(f"{count}/{of} {period}" for period, count, of in used) or "-",
        local_time(state.last_good, now) if state and state.last_good else "never",
        local_time(state.last_bad, now) if state and state.last_bad else "never",
        ", ".join(entry.recipients),
    )


def _row_json(entry: Connector, used: Used, state: ConnectorState | None) -> dict[str, Any]:
    return {
        **plain_entry(entry),
        "next_hop": entry.where,
        "allowance_used": [{"period": period, "used": count, "of": of} for period, count, of in used],
        "last_success": json_time(state.last_good) if state else None,
        "last_failure": json_time(state.last_bad) if state else None,
        "last_failure_text": (state.last_bad_text or None) if state else None,
    }


@connector.command("test")
@click.argument("name", shell_complete=complete_names("connector"))
@click.option("--to", "recipient", metavar="ADDRESS", help="Also send one small real message to this address.")
@click.option("--dialogue", is_flag=True, help="Show the whole dialogue.")
@json_option
@click.pass_context
def test_connector(ctx: click.Context, name: str, recipient: str | None, dialogue: bool, as_json: bool) -> None:
    """Connect to every next hop with the connector's settings, at each of its addresses, up to MAIL.

    No message is sent without --to; then one goes, by the first that takes it. Exit 0 when each host is reachable,
    4 when something stops one.
    """
    from copper_kite.cli.output.survey_output import print_survey, survey_connector, survey_json
    from copper_kite.cli.shared.target import outward_recipient

    loaded = load_settings(ctx.obj, secrets=True)
    entry = named_connector(loaded, name)
    recipient = outward_recipient(loaded, recipient) if recipient else None
    result = asyncio.run(survey_connector(loaded, entry, recipient, more=asked_again("--dialogue")))
    sent = asyncio.run(_send_test(loaded, result, recipient)) if recipient and result.passed else None
    if as_json:
        print_json({**survey_json(name, result), "sent": probed_json(sent) if sent is not None else None})
    else:
        say((f"connector {name}", "bold"), f" to {entry.where}, TLS {entry.tls}")
        print_survey(result, dialogue=dialogue)
        if sent is not None:
            echo()
            say((f"one small message to {recipient}", "bold"), f", by {sent.plan.where}")
            print_probed(sent, dialogue=dialogue)
        if result.passed:
            offer_retry(loaded, name)
    ctx.exit(0 if result.passed and (sent is None or sent.passed) else 4)


async def _send_test(loaded: Loaded, survey: Survey, recipient: str) -> Probed:
    """Send one small message, through the first address that works."""
    from copper_kite.cli.commands.probe import small_letter
    from copper_kite.session import run_probe

    way = next(way for way in survey.ways if way.passed)
    sender = way.letter.envelope.reverse_path if way.letter is not None else ""
    letter = small_letter(loaded, f"connector to {way.plan.where}", sender, (recipient,))
    return await run_probe(way.plan, {"recipient": recipient, "probing": True}, letter)


@connector.command("retry")
@click.argument("name", shell_complete=complete_names("connector"))
@click.option("--wait", is_flag=True, help="Wait for the first attempt and show its result.")
@json_option
@click.pass_context
def retry_connector(ctx: click.Context, name: str, wait: bool, as_json: bool) -> None:
    """Try everything that waits for a connector now, even if its next hop is remembered as down.

    With --wait: exit 0 when its mail moves, 4 when something still stops it.
    """
    from copper_kite.cli.commands.connector_retry import retry

    loaded = load_settings(ctx.obj)
    named_connector(loaded, name)
    ctx.exit(retry(loaded, name, wait=wait, as_json=as_json))
