"""`kite route`."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING, Any

import click

from copper_kite.cli.output.show import echo, print_json, print_table, print_verdict, say, verdict_json
from copper_kite.cli.shared.options import json_option, load_settings
from copper_kite.errors import InputError

if TYPE_CHECKING:
    from copper_kite.routing import Choice
    from copper_kite.settings import Connector, Loaded
    from copper_kite.verdict import Verdict

__all__ = ["route"]


@click.command()
@click.argument("addresses", nargs=-1, metavar="ADDRESS...")
@click.option("--from", "sender", metavar="ADDRESS", default="", help="Mail from this sender.")
@json_option
@click.pass_context
def route(ctx: click.Context, addresses: tuple[str, ...], sender: str, as_json: bool) -> None:
    """Show which connector carries each ADDRESS, and why the others do not.

    Without addresses, or with -, they are read from standard input, one a line. Exit 1 when one has no connector.
    """
    from copper_kite.routing import Outward, choose_connector
    from copper_kite.smtp import is_mailbox

    loaded = load_settings(ctx.obj)
    given = [line.strip() for line in sys.stdin] if addresses in ((), ("-",)) else list(addresses)
    outward = Outward(loaded.settings.identity, loaded.server_name)
    wanted = [outward.recipient(address) or address for address in given if address]
    for address in wanted:
        if not is_mailbox(address):
            raise InputError(f"{address!r} is not an address with a domain", usage=True)
    choices = [choose_connector(loaded.settings.connector, address, outward.sender(sender) or "") for address in wanted]
    if as_json:
        print_json([_choice_json(loaded, choice) for choice in choices])
    elif len(choices) > 5:
        names = [choice.connector.name if choice.connector else "none" for choice in choices]
        print_table(("address", "connector"), list(zip(wanted, names, strict=True)))
    else:
        for number, choice in enumerate(choices):
            if number:
                echo()
            _show(loaded, choice)
    ctx.exit(0 if all(choice.connector for choice in choices) else 1)


def _show(loaded: Loaded, choice: Choice[Connector]) -> None:
    chosen = choice.connector
    say((choice.recipient, "bold"), " → ", (f"connector {chosen.name}" if chosen else "no connector", "bold"))
    print_table(
        ("connector", "", "why"),
        [(name, "carries it" if chosen and name == chosen.name else "", why) for name, why in choice.reasons],
        colours={"carries it": "green"},
        wraps=True,
    )
    if chosen is not None:
        login = f"login by credential {chosen.credential}" if chosen.credential else "no login"
        say(f"next hop {chosen.where}, TLS {chosen.tls}, trust {chosen.trust}, {login}", indent=2)
        hosts = _exchangers(loaded, choice.recipient) if chosen.mx else [hop.host for hop in chosen.next_hops]
        for host in hosts:
            say(f"addresses of {host}: {_addresses(loaded, host)}", indent=2)
    else:
        print_verdict(_nobody(loaded, choice))


RESOLVE_SECONDS = 15.0


def _addresses(loaded: Loaded, host: str) -> str:
    import asyncio

    from copper_kite.net import SessionFailed, resolve_host
    from copper_kite.routing import dns_of

    try:
        return ", ".join(asyncio.run(resolve_host(host, 25, RESOLVE_SECONDS, dns_of(loaded))))
    except SessionFailed as failure:
        return f"none ({failure.text})"


def _exchangers(loaded: Loaded, recipient: str) -> list[str]:
    """The mail exchangers of a recipient's domain, in the order in which they are tried."""
    import asyncio

    from copper_kite.net import SessionFailed, mail_exchangers
    from copper_kite.routing import dns_of, mx_order

    domain = recipient.rpartition("@")[2]
    try:
        records, _ = asyncio.run(mail_exchangers(domain, RESOLVE_SECONDS, dns_of(loaded)))
        return mx_order(domain, records, {loaded.server_name.lower()})
    except SessionFailed as failure:
        say(f"no mail exchanger: {failure.text}", indent=2)
        return []


def _nobody(loaded: Loaded, choice: Choice[Connector]) -> Verdict:
    from copper_kite.verdict import Verdict, judge_attempt
    from copper_kite.words import Cause, Stage

    domain = choice.recipient.rpartition("@")[2]
    result = judge_attempt(Stage.RESOLVE, Cause.NO_CONNECTOR, None, "", {"recipient": choice.recipient})
    enabled = [entry for entry in loaded.settings.connector if entry.enabled]
    command = f"kite connector set {enabled[0].name} recipients+={domain}" if enabled else "kite connector add --help"
    advice = "or another connector that is to carry it" if enabled[1:] else ""
    evidence = f"none of {len(choice.connectors)} connectors fits"
    return Verdict(result.side, result.meaning, evidence, command, advice)


def _choice_json(loaded: Loaded, choice: Choice[Connector]) -> dict[str, Any]:
    chosen = choice.connector
    return {
        "recipient": choice.recipient,
        "connector": chosen.name if chosen else None,
        "reasons": [{"connector": name, "reason": why} for name, why in choice.reasons],
        "next_hops": [str(chosen.next_hop)] if chosen else [],
        "tls": chosen.tls if chosen else None,
        "trust": chosen.trust if chosen else None,
        "credential": chosen.credential if chosen else None,
        "verdict": None if chosen else verdict_json(_nobody(loaded, choice)),
    }
