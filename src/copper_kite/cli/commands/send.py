"""`kite send`."""

from __future__ import annotations

import asyncio
import os
import sys
import time
from array import array
from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from copper_kite.cli.output.probe_output import milliseconds, print_probed, probed_json
from copper_kite.cli.output.show import echo, local_time, print_json, print_verdict, say, verdict_json
from copper_kite.cli.shared.options import DURATION, PACE, SIZE, Endpoints, json_option
from copper_kite.cli.shared.target import (
    SUBMISSION_PORT,
    Target,
    find_target,
    outward_recipients,
    own_name,
    refuse_options,
    target_options,
)
from copper_kite.errors import InputError

if TYPE_CHECKING:
    from copper_kite.session import Letter, Probed, Sent
    from copper_kite.verdict import Verdict

__all__ = ["send"]

MAX_BAD = 1000  # messages not taken that are told one by one
LOOK_SECONDS = 0.2  # between two looks at the queue
TEXT = "This is a test message, sent by kite.\n"


@click.command()
@click.argument("recipients", nargs=-1, required=True, metavar="RECIPIENT...")
@click.option(
    "--server",
    type=Endpoints(SUBMISSION_PORT),
    metavar="HOST[:PORT]",
    help="Send to this server instead of the one on this machine.",
)
@click.option("--from", "sender", metavar="ADDRESS", help="The sender.  [default: postmaster]")
@click.option("--envelope-from", metavar="ADDRESS", help="Envelope sender, if it differs; '' for the empty one.")
@click.option("--subject", help="[default: a test, and when]")
@click.option("--text", help="The text; - reads standard input.")
@click.option("--html", metavar="HTML", help="HTML alternative of the text.")
@click.option("--attach", multiple=True, type=click.Path(path_type=Path, dir_okay=False), help="Attach a file.")
@click.option("--header", "fields", multiple=True, metavar="FIELD", help="Add a header field, as in 'X-Tide: high'.")
@click.option("--size", type=SIZE, metavar="SIZE", help="Pad the message to this size.")
@click.option("--eml", metavar="FILE", help="Send this message as it is.")
@click.option("--count", type=click.IntRange(1, 10_000_000), default=1, metavar="N", help="Number of messages.")
@click.option("--rate", type=PACE, metavar="N/s", help="Maximum rate, as in 10/s or 30/m.")
@click.option("--sessions", type=click.IntRange(1, 1000), default=1, metavar="N", help="Number of parallel sessions.")
@click.option("--wait", is_flag=True, help="Follow the message through the queue and print its story.")
@click.option("--at-most", type=DURATION, metavar="TIME", default="5m", show_default=True, help="How long to wait.")
@click.option("--dialogue", is_flag=True, help="Show the whole dialogue.")
@json_option
@click.pass_context
def send(ctx: click.Context, /, recipients: tuple[str, ...], **given: Any) -> None:
    """Send a test message, or many: through the server on this machine, a connector, or straight to a server.

    Without --server and --connector it goes to the first listener of the configuration, as a program's mail does, and
    --wait follows it from there. Exit 0 when it was taken (with --wait: relayed), 4 when not.
    """
    server = given.pop("server")
    here = server is None and not given["connector"]
    target = _local(ctx.obj, given) if here else find_target(ctx.obj, server, given)
    if given["wait"] and (not here or given["count"] > 1):
        raise InputError("--wait follows one message through this machine's queue", usage=True)
    rate = 1 / given["rate"].interval if given["rate"] else None
    letter = _letters(target, recipients, given)
    if given["count"] > 1:
        ctx.exit(_send_many(target, letter, given["count"], rate, given["sessions"], as_json=given["as_json"]))
    result = asyncio.run(_send_one(target, letter(1)))
    id = _id_of(result)
    if id is not None and here:
        result = replace(result, verdict=_to_be_traced(result.verdict, id))
    if given["wait"] and result.passed and id is not None:
        ctx.exit(_follow(target, id, given["at_most"], as_json=given["as_json"]))
    if given["as_json"]:
        print_json({"id": id, **probed_json(result)})
    else:
        say(("message", "bold"), f" to {', '.join(recipients)} by {target.where}")
        print_probed(result, dialogue=given["dialogue"])
    ctx.exit(0 if result.passed else 4)


def _local(config: str | None, given: dict[str, Any]) -> Target:
    """This machine's own server, as a program connects to it. Raises InputError when it has no listener for that."""
    from copper_kite.cli.shared.options import load_settings
    from copper_kite.net import Plan
    from copper_kite.session import PATIENCE

    refuse_options(given)
    loaded = load_settings(config)
    binds = [bind for entry in loaded.settings.listener if entry.enabled for bind in entry.bind]
    bind = next((bind for bind in binds if bind.path), None) or next(iter(binds), None)
    if bind is None:
        raise InputError("no listener is enabled; name one with --server, or see `kite listener list`", usage=True)
    host = bind.host or "localhost"
    plan = Plan(host=host, port=bind.port, path=bind.path, name=loaded.server_name, tls="off", timeouts=PATIENCE)
    return Target(plan=plan, loaded=loaded, facts={"config": str(loaded.path)})


def _letters(target: Target, recipients: tuple[str, ...], given: dict[str, Any]) -> Callable[[int], Letter]:
    """The function that makes message 1, 2, … Raises InputError for an impossible one."""
    from copper_kite.mail import split_address
    from copper_kite.session import Letter
    from copper_kite.smtp import Envelope, is_mailbox

    loaded = target.loaded
    if not target.plan.path:  # to our own server, they go as they are
        recipients = outward_recipients(target, recipients)
    domain = (loaded.settings.identity.domain if loaded else None) or own_name(loaded)
    sender = given["sender"] or f"postmaster@{domain}"
    path = split_address(sender)[1] if given["envelope_from"] is None else given["envelope_from"]
    to = tuple(
        dict.fromkeys(split_address(recipient)[1] if "@" in recipient else recipient for recipient in recipients)
    )
    for address in ((path,) if path else ()) + to:
        if not is_mailbox(address) and ("@" in address or not is_mailbox(f"{address}@{domain}")):
            raise InputError(f"{address!r} is not an address", usage=True)
    utf8 = not "".join((path, *to)).isascii()
    make = _maker(target, sender, recipients, given, domain)

    def letter(number: int) -> Letter:
        content = make(number)
        return Letter(Envelope(path, to, len(content), not content.isascii(), utf8), content)

    letter(1)  # what is wrong shows before anything is said
    return letter


def _maker(
    target: Target, sender: str, recipients: Sequence[str], given: dict[str, Any], domain: str
) -> Callable[[int], bytes]:
    from copper_kite.mail import Parts, compose_message, normalise_line_ends

    if given["eml"]:
        try:
            ready = normalise_line_ends(Path(given["eml"]).read_bytes())
        except OSError as error:
            raise InputError(f"{given['eml']}: cannot be read ({error.strerror})", usage=True) from error
        return lambda number: ready
    text = sys.stdin.read() if given["text"] == "-" else given["text"] or TEXT
    subject = given["subject"] or f"Test by kite at {local_time(time.time())}"
    count = given["count"]
    whole = [recipient if "@" in recipient else f"{recipient}@{domain}" for recipient in recipients]

    def make(number: int) -> bytes:
        parts = Parts(
            sender=sender,
            recipients=whole,
            subject=f"{subject} ({number} of {count})" if count > 1 else subject,
            text=text,
            html=given["html"] or "",
            attachments=given["attach"],
            fields=given["fields"],
            size=given["size"],
        )
        message_id = f"{time.time_ns():x}.{os.getpid()}.{number}.test@{domain}"
        return compose_message(parts, message_id, time.time())

    return make


async def _send_one(target: Target, letter: Letter) -> Probed:
    from copper_kite.session import run_probe

    return await run_probe(target.plan, target.facts, letter)


def _id_of(probed: Probed) -> str | None:
    """The id that our own server gave the message, as its reply says."""
    from copper_kite.words import Stage

    said = next((text for stage, _, text in reversed(probed.stages) if stage is Stage.ACCEPT), "")
    _, kept, id = said.partition("kept as ")
    return id.strip() if kept and probed.passed else None


def _follow(target: Target, id: str, at_most: float, *, as_json: bool) -> int:
    """Tell what becomes of a message until all its recipients have ended; the exit status."""
    from copper_kite.cli.commands.trace import show_story, story_json, story_of
    from copper_kite.store import open_store
    from copper_kite.words import FINAL, State

    assert target.loaded is not None
    ends = time.monotonic() + at_most
    told: dict[str, tuple[State, int]] = {}
    with open_store(target.loaded.store).reader() as reader:
        number = reader.resolve(id)
        while True:
            recipients = reader.record(number).recipients
            for recipient in recipients:
                if told.get(recipient.address) != (recipient.state, recipient.attempts) and not as_json:
                    told[recipient.address] = (recipient.state, recipient.attempts)
                    echo(f"{local_time(time.time())}  {id}  {recipient.address}: {recipient.state.value}", err=True)
            if all(recipient.state in FINAL for recipient in recipients) or time.monotonic() > ends:
                break
            time.sleep(LOOK_SECONDS)
        story = story_of(target.loaded, reader, number)
    if as_json:
        print_json(story_json(story))
    else:
        echo(err=True)
        show_story(story)
    return 0 if all(recipient.state is State.RELAYED for recipient in recipients) else 4


# --- many ------------------------------------------------------------------------------------------------------------


def _to_be_traced(verdict: Verdict, id: str) -> Verdict:
    return replace(verdict, next=f"kite trace {id}", advice="the same with --wait follows it by itself")


def _send_many(
    target: Target, letter: Callable[[int], Letter], count: int, rate: float | None, sessions: int, *, as_json: bool
) -> int:
    from rich.console import Console
    from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn, TimeRemainingColumn

    from copper_kite.session import send_many

    tally = _Tally()
    columns = (TextColumn("{task.description}"), BarColumn(), MofNCompleteColumn(), TimeRemainingColumn())
    began = time.monotonic()
    with Progress(*columns, console=Console(stderr=True), transient=True, disable=not sys.stderr.isatty()) as progress:
        task = progress.add_task(f"to {target.where}", total=count)

        def told(sent: Sent) -> None:
            tally.add(sent)
            progress.advance(task)

        asyncio.run(send_many(target.plan, letter, count, rate=rate, sessions=sessions, told=told))
    took = time.monotonic() - began
    if as_json:
        print_json(_many_json(target, tally, took, letter))
    else:
        _print_many(target, tally, took, letter)
    return 0 if tally.taken == count else 4


class _Tally:
    """The results of many messages, in little memory: times in seconds, and the first refused ones."""

    def __init__(self) -> None:
        self.times = array("d")
        self.taken = 0
        self.bad: list[Sent] = []

    def add(self, sent: Sent) -> None:
        """Count one more result."""
        self.times.append(sent.seconds)
        if sent.taken:
            self.taken += 1
        elif len(self.bad) < MAX_BAD:
            self.bad.append(sent)


def _print_many(target: Target, tally: _Tally, took: float, letter: Callable[[int], Letter]) -> None:
    times, count = sorted(tally.times), len(tally.times)
    rate = f"{tally.taken / took:.1f} a second"
    say((f"{tally.taken} of {count} messages taken", "bold"), f" by {target.where} in {took:.1f} s, {rate}")
    spread = f"{milliseconds(times[0])}, {milliseconds(times[count // 2])}, {milliseconds(times[-1])}"
    say(f"a message took at least, in the middle, at most: {spread}", indent=2)
    if tally.bad:
        first = min(tally.bad, key=lambda sent: sent.number)
        say(f"the first that was not taken was number {first.number}", indent=2)
        echo()
        print_verdict(_why(target, first, letter))


def _many_json(target: Target, tally: _Tally, took: float, letter: Callable[[int], Letter]) -> dict[str, Any]:
    times = sorted(tally.times)
    first = min(tally.bad, key=lambda sent: sent.number, default=None)
    return {
        "taken": tally.taken,
        "of": len(times),
        "seconds": round(took, 3),
        "times": {"least": times[0], "median": times[len(times) // 2], "most": times[-1]},
        "refused": [{"number": item.number, "said": _said(item)} for item in tally.bad],
        "verdict": verdict_json(_why(target, first, letter)) if first else None,
    }


def _said(sent: Sent) -> str:
    if sent.failure is not None:
        return sent.failure.text
    return next(str(result.reply) for result in sent.results if not result.reply.positive)


def _why(target: Target, sent: Sent, letter: Callable[[int], Letter]) -> Verdict:
    """The verdict on a message that was not taken."""
    from copper_kite.net import SessionFailed
    from copper_kite.session import verdict_on_stop
    from copper_kite.words import Cause

    failure = sent.failure
    recipient = ""
    if failure is None:
        refused = next(result for result in sent.results if not result.reply.positive)
        failure = SessionFailed(refused.stage, Cause.REPLY, str(refused.reply), refused.reply)
        recipient = refused.recipient
    return verdict_on_stop(target.plan, failure, {"recipient": recipient, **target.facts}, letter(sent.number))


target_options(send)
