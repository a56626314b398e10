"""`kite probe`."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import click

from copper_kite.cli.output.probe_output import (
    milliseconds,
    print_probed,
    print_repeats,
    print_sweep,
    probed_json,
    repeats_json,
)
from copper_kite.cli.output.show import echo, print_json, say
from copper_kite.cli.output.typed_commands import asked_again
from copper_kite.cli.shared.options import DURATION, SIZE, Endpoints, json_option
from copper_kite.cli.shared.target import (
    SUBMISSION_PORT,
    Target,
    find_target,
    outward_recipients,
    own_name,
    target_options,
)
from copper_kite.errors import InputError

if TYPE_CHECKING:
    from copper_kite.session import Letter, Probed
    from copper_kite.settings import Endpoint, Loaded

__all__ = ["make_letter", "probe", "small_letter"]


@click.command()
@click.argument("server", required=False, type=Endpoints(SUBMISSION_PORT), metavar="[HOST[:PORT]]")
@click.option("--ports", metavar="LIST", help="Try several ports at once, as in 25,465,587,2525.")
@click.option("--from", "sender", metavar="ADDRESS", help="Go on with MAIL.  [default: postmaster, when there is --to]")
@click.option("--to", "recipients", multiple=True, metavar="ADDRESS", help="Go on with RCPT; no message is sent.")
@click.option("--size", type=SIZE, metavar="SIZE", help="Announce this message size, as in 30MiB.")
@click.option("--deliver", is_flag=True, help="Send one small real message to --to.")
@click.option("--repeat", type=click.IntRange(1, 10_000), default=1, metavar="N", help="Repeat and print a summary.")
@click.option(
    "--every", type=DURATION, metavar="TIME", default="1s", show_default=True, help="Time between repetitions."
)
@click.option("--dialogue", is_flag=True, help="Show the whole dialogue, with times.")
@json_option
@click.pass_context
def probe(
    ctx: click.Context,
    /,
    server: Endpoint | None,
    ports: str | None,
    sender: str | None,
    recipients: tuple[str, ...],
    size: int | None,
    deliver: bool,
    repeat: int,
    every: float,
    dialogue: bool,
    as_json: bool,
    **given: Any,
) -> None:
    """Test a session with a server stage by stage: what stops it, on whose side, and what to do.

    HOST[:PORT] is what to meet (port 587 when none is given), or unix:/PATH, or a connector's next hop with
    --connector. Without --from and --to the walk ends after the login; without --deliver no message is sent.

    Exit 0 when nothing stops it, 4 when something does.
    """
    target = find_target(ctx.obj, server, given)
    target = replace(target, facts={**target.facts, "probing": True, "more": asked_again("--dialogue")})
    letter = make_letter(target, sender, recipients, size, deliver=deliver)
    if ports:
        result = asyncio.run(_sweep(target, _ports(ports)))
    else:
        result = asyncio.run(_repeat(target, letter, repeat, every, quiet=as_json))
    if as_json:
        print_json(_json(result, swept=bool(ports)))
    elif ports:
        say((f"probe of {target.plan.host}", "bold"), f", ports {ports}")
        print_sweep(result, target.facts.get("connector", ""))
    elif repeat > 1:
        print_repeats(result)
    else:
        _print_one(target, result[0], dialogue=dialogue)
    ctx.exit(0 if all(item.passed for item in result) or (ports and any(item.passed for item in result)) else 4)


def _print_one(target: Target, probed: Probed, *, dialogue: bool) -> None:
    connector = target.facts.get("connector")
    say(
        (f"probe of {target.where}", "bold"),
        f", TLS {probed.plan.tls}" + (f", connector {connector}" if connector else ""),
    )
    print_probed(probed, dialogue=dialogue)


def _json(probes: Sequence[Probed], *, swept: bool) -> object:
    if swept:
        return [probed_json(item) for item in probes]
    return repeats_json(probes) if len(probes) > 1 else probed_json(probes[0])


async def _sweep(target: Target, ports: list[int]) -> list[Probed]:
    from copper_kite.session import sweep_ports

    return await sweep_ports(target.plan, ports, target.facts)


async def _repeat(target: Target, letter: Letter | None, times: int, every: float, *, quiet: bool) -> list[Probed]:
    from copper_kite.session import run_probe

    results = []
    for turn in range(times):
        if turn:
            await asyncio.sleep(every)
        results.append(await run_probe(target.plan, target.facts, letter))
        if times > 1 and not quiet:
            result = results[-1]
            took = milliseconds(sum(seconds for _, seconds, _ in result.stages))
            echo(f"{turn + 1:5}  {took:>8}  {'ok' if result.passed else f'STOP {result.verdict.evidence}'}")
    return results


def _ports(text: str) -> list[int]:
    parts = [part.strip() for part in text.split(",")]
    if not all(part.isdigit() and 0 < int(part) < 65536 for part in parts):
        raise click.BadParameter(f"{text!r} is no list of ports; write it as 25,465,587,2525", param_hint="--ports")
    return list(dict.fromkeys(map(int, parts)))


def make_letter(
    target: Target, sender: str | None, recipients: tuple[str, ...], size: int | None, *, deliver: bool
) -> Letter | None:
    """The transaction after the login, if any. Raises InputError."""
    from copper_kite.session import Letter
    from copper_kite.smtp import Envelope, is_mailbox

    if deliver and not recipients:
        raise InputError("--deliver needs a recipient: --to ADDRESS", usage=True)
    if sender is None and not recipients and size is None:
        return None
    recipients = outward_recipients(target, recipients)
    if sender is None:
        loaded = target.loaded
        sender = f"postmaster@{(loaded.settings.identity.domain if loaded else None) or own_name(loaded)}"
    for address in (*((sender,) if sender else ()), *recipients):
        if not is_mailbox(address):
            raise InputError(f"{address!r} is not an address with a domain", usage=True)
    utf8 = not "".join((sender, *recipients)).isascii()
    if not deliver:
        return Letter(Envelope(sender, recipients, size or 1000, False, utf8), None)
    connector = target.facts.get("connector")
    letter = small_letter(target.loaded, f"connector {connector}" if connector else target.where, sender, recipients)
    return letter if size is None else letter._replace(envelope=letter.envelope._replace(size=size))


def small_letter(loaded: Loaded | None, how: str, sender: str, recipients: tuple[str, ...]) -> Letter:
    """A small real message that says what it tests."""
    from copper_kite.mail import mend_message
    from copper_kite.session import Letter
    from copper_kite.smtp import Envelope

    text = f"Subject: Test of {how}\nTo: {', '.join(recipients)}\n\nA test message, sent by kite to {how}.\n"
    message_id = f"{time.time_ns():x}.test@{own_name(loaded)}"
    content = mend_message(text.encode(), sender=sender, message_id=message_id, at=time.time())
    utf8 = not "".join((sender, *recipients)).isascii()
    return Letter(Envelope(sender, recipients, len(content), not content.isascii(), utf8), content)


target_options(probe)
