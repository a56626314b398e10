"""`kite headers`."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from itertools import islice
from typing import IO, TYPE_CHECKING, Any

import click

from copper_kite.cli.output.show import (
    age,
    echo,
    json_time,
    local_times,
    print_json,
    print_table,
    print_verdict,
    say,
    verdict_json,
)
from copper_kite.cli.shared.options import json_option, lookups_of, settings_or_none

if TYPE_CHECKING:
    from copper_kite.settings import Loaded
    from copper_kite.store import Recipient
    from copper_kite.trace import Departure, SignatureChecks, Step, Way
    from copper_kite.verdict import Verdict

__all__ = ["headers"]

LOOKUP_SECONDS = 5.0  # for the key of each signature
BAR = 10  # columns of the longest delay


@click.command()
@click.argument("file", type=click.File("rb"), default="-")
@click.option("--number", type=click.IntRange(1), help="Use this message of an mbox.")
@click.option("--limit", type=click.IntRange(2), default=1000, show_default=True, help="Maximum messages of an mbox.")
@click.option(
    "--believe", "trusted", multiple=True, metavar="NAME", help="Trust the Authentication-Results of this server."
)
@click.option("--verify", is_flag=True, help="Check the DKIM signatures of the whole message instead.")
@json_option
@click.pass_obj
def headers(
    config: str | None,
    file: IO[bytes],
    number: int | None,
    limit: int,
    trusted: tuple[str, ...],
    verify: bool,
    as_json: bool,
) -> None:
    """Show the path of a received message from its header, or with --verify whether its signatures hold.

    FILE is a message, its header, or an mbox; without it, or with -, paste it and end with Ctrl-D. Of an mbox with
    several messages each gets a line, and --number looks at one of them.
    """
    from copper_kite.trace import find_way

    if verify:
        _verify_signatures(config, file, number, as_json=as_json)
        return
    messages = _messages(file)
    if number is not None:
        _show_way(find_way(_numbered(messages, number), trusted), config, as_json=as_json)
        return
    ways = [find_way(content, trusted) for content in islice(messages, limit)] or [find_way(b"", trusted)]
    if len(ways) == 1:
        _show_way(ways[0], config, as_json=as_json)
        return
    _show_several(ways, as_json=as_json)
    if len(ways) == limit and next(messages, None) is not None:
        echo(f"… and more; --limit {limit * 10} shows more of them", err=as_json)


def _verify_signatures(config: str | None, file: IO[bytes], number: int | None, *, as_json: bool) -> None:
    """Exit with 1 where no signature is valid, and 4 where that cannot be determined."""
    import asyncio
    import time

    from copper_kite.cli.output.signature_output import print_signatures, signatures_json
    from copper_kite.trace import check_signatures

    content = _whole_message(file, number)
    loaded = settings_or_none(config)

    async def check() -> SignatureChecks:
        return await check_signatures(content, lookups_of(loaded, LOOKUP_SECONDS), time.time())

    checks = asyncio.run(check())
    if as_json:
        print_json(signatures_json(checks))
    else:
        print_signatures(checks)
    results = {result.result for result in checks.results}
    if "pass" not in results:
        raise SystemExit(4 if results == {"temperror"} else 1)


def _whole_message(file: IO[bytes], number: int | None) -> bytes:
    """The message of a file, or one of an mbox."""
    from copper_kite.mail import mbox_messages

    content = file.read()
    if content.startswith(b"From ") or number is not None:
        return _numbered(mbox_messages(content.splitlines(keepends=True)), number or 1)
    return content


def _numbered(messages: Iterator[bytes], number: int) -> bytes:
    there = 0
    for there, content in enumerate(messages, 1):
        if there == number:
            return content
    raise click.UsageError(f"there are {there} messages, and no number {number}")


def _messages(file: IO[bytes]) -> Iterator[bytes]:
    from copper_kite.mail import mbox_messages

    for content in mbox_messages(_heads(file)):
        yield b"\n".join(_unindented(content.splitlines()))


def _heads(file: IO[bytes]) -> Iterator[bytes]:
    """The lines of headers alone: the bodies of a large mbox need no room."""
    from copper_kite.mail import mbox_lines

    head, blank, begun = True, True, False
    for line in mbox_lines(file):
        if blank and line.startswith(b"From "):
            head, begun = True, False
        if head and (line.strip() or not begun):
            begun = begun or (bool(line.strip()) and not line.startswith(b"From "))
            yield line
        elif head:
            head = False
            yield b"\n"
        blank = not line.strip()


def _unindented(lines: list[bytes]) -> list[bytes]:
    """Without what a paste puts before every line; and without empty lines before the first."""
    lines = [line for line in lines if line.strip()]
    if not lines:
        return lines
    lead = len(lines[0]) - len(lines[0].lstrip())
    return [line[lead:] if not line[:lead].strip() else line for line in lines]


def _show_several(ways: list[Way], *, as_json: bool) -> None:
    if as_json:
        print_json([_way_json(way) for way in ways])
        return
    print_table(
        ("number", "hops", "total", "longest", "at", "subject"),
        [
            (str(number), str(len(way.steps)), age(way.total.likely), *_longest(way), way.fields["subject"])
            for number, way in enumerate(ways, 1)
        ],
        right=("number", "hops", "total", "longest"),
    )
    echo("kite headers FILE --number N shows the way of one")


def _longest(way: Way) -> tuple[str, str]:
    longest = way.longest
    if longest is None or longest.wait is None:
        return "-", ""
    return age(longest.wait.likely), longest.waited_at if longest.wait.certain else "(not certain)"


def _show_way(way: Way, config: str | None, *, as_json: bool) -> None:
    from copper_kite.trace import way_verdict

    loaded = settings_or_none(config)
    departure = _departure(way, loaded) if loaded is not None else None
    verdict = way_verdict(way, loaded.server_name if loaded else "")
    if departure is not None and departure.wrong:
        verdict = _gone_astray(departure)
    if as_json:
        print_json({**_way_json(way), "departure": _departure_json(departure), "verdict": verdict_json(verdict)})
        return
    for name in ("from", "to", "subject", "message-id"):
        if way.fields[name]:
            say((f"{name:>10}  ", "bold"), way.fields[name])
    echo()
    _show_steps(way)
    _show_claims(way)
    if departure is not None:
        echo()
        say(*_departure_words(departure))
    echo()
    print_verdict(verdict)


def _step_row(step: Step, times: Iterator[str], most: float) -> tuple[str, ...]:
    at = next(times) if step.hop.when.at is not None else f"({step.hop.when.fault})"
    return at, _delay(step), _bar(step, most), step.hop.protocol, _tls_word(step), _hop_words(step)


def _show_steps(way: Way) -> None:
    times = iter(local_times([step.hop.when.at for step in way.steps if step.hop.when.at is not None]))
    most = max((step.wait.likely for step in way.steps if step.wait is not None), default=0.0)
    print_table(
        ("time", "delay", "", "with", "TLS", "from → by"),
        [_step_row(step, times, most) for step in way.steps],
        right=("delay",),
        wraps=True,
    )


def _delay(step: Step) -> str:
    from copper_kite.trace import SKEW

    wait = step.wait
    if wait is None:
        return "-"
    return age(wait.likely) if wait.high - wait.low <= SKEW else f"{age(wait.low)}–{age(wait.high)}"


def _tls_word(step: Step) -> str:
    if step.hop.tls or step.hop.secure:
        return step.hop.tls or "yes"
    if step.hop.comments.get("from", "").startswith("local socket"):
        return "local"
    return "no" if step.hop.protocol else "-"


def _bar(step: Step, most: float) -> str:
    if step.fast:
        return f"clock {age(abs(step.fast))} {'fast' if step.fast > 0 else 'slow'}"
    if step.wait is None or not step.wait.certain:
        return ""
    length = round(BAR * step.wait.likely / most) if most > 0 else 0
    return "█" * length or ("▏" if step.wait.likely >= 1 else "")


def _hop_words(step: Step) -> str:
    hop = step.hop
    address = f" [{hop.address}]" if hop.address and hop.address not in hop.sender else ""
    unzoned = "" if hop.when.at is None or hop.when.zone_known else " (its zone is unknown)"
    return f"{hop.sender or '?'}{address} → {hop.receiver or '?'}{unzoned}{' (again)' * step.repeated}"


def _show_claims(way: Way) -> None:
    rows = []
    for claim in way.claims:
        how = "verified" if claim.verified else "claimed"
        for result in claim.checked.results:
            of = " ".join(f"{name}={value}" for name, value in result.properties.items())
            why = f" ({result.reason})" if result.reason else ""
            rows.append((how, claim.checked.server, result.method, result.value, f"{of}{why}"))
    if rows:
        echo()
        print_table(("results", "says", "method", "result", "of"), rows, wraps=True)
        if not any(claim.verified for claim in way.claims):
            echo("Anybody may have written these; --believe NAME says whose count.")


def _departure(way: Way, loaded: Loaded) -> Departure | None:
    """The departure of the message from this server, if it passed it."""
    from copper_kite.errors import KiteError
    from copper_kite.store import open_store
    from copper_kite.trace import find_departure, own_step

    place = own_step(way.steps, loaded.server_name)
    if place is None:
        return None
    recipients: list[Recipient] = []
    sender = way.fields["return-path"].strip("<> ")
    with contextlib.suppress(KiteError), open_store(loaded.store).reader() as reader:
        message, recipients = reader.recipients(reader.resolve(way.steps[place].hop.id))
        sender = message.reverse_path
    return find_departure(way.steps, place, loaded.settings.connector, sender, recipients)


def _departure_words(departure: Departure) -> list[str]:
    taken = f"; the server that took it calls itself {departure.taken_by}" if departure.taken_by else ""
    if departure.used:
        as_it_should = f"not through {departure.expected or 'none'}" if departure.wrong else "as it should"
        return [f"It left here through connector {departure.used} to {departure.next_hop}, {as_it_should}{taken}."]
    if not departure.expected:
        return [f"It passed this server, where no connector carries {departure.recipient} now{taken}."]
    return [
        f"It passed this server, where connector {departure.expected} carries {departure.recipient} "
        f"to {departure.next_hop}{taken}."
    ]


def _gone_astray(departure: Departure) -> Verdict:
    from copper_kite.verdict import Verdict
    from copper_kite.words import Side

    expected = f"connector {departure.expected}" if departure.expected else "no connector"
    meaning = f"It left through connector {departure.used}, and {expected} carries {departure.recipient} now."
    return Verdict(Side.HERE, meaning, f"message {departure.id} in the queue", f"kite route {departure.recipient}")


def _departure_json(departure: Departure | None) -> dict[str, Any] | None:
    if departure is None:
        return None
    return {
        "id": departure.id,
        "recipient": departure.recipient,
        "expected_connector": departure.expected or None,
        "used_connector": departure.used or None,
        "next_hop": departure.next_hop or None,
        "taken_by": departure.taken_by or None,
        "secure": departure.secure,
    }


def _way_json(way: Way) -> dict[str, Any]:
    return {
        **{name.replace("-", "_"): way.fields[name] or None for name in ("from", "to", "subject", "message-id")},
        "seconds": way.total.likely,
        "seconds_bounds": [way.total.low, way.total.high],
        "clocks": [
            {"server": offset.server, "fast_by": offset.seconds, "likely": offset in way.clocks.wrong}
            for offset in (*way.clocks.wrong, *way.clocks.others)
        ],
        "hops": [
            {
                "time": json_time(step.hop.when.at),
                "fault": step.hop.when.fault or None,
                "zone_known": step.hop.when.zone_known,
                "delay": step.delay,
                "wait": step.wait.likely if step.wait else None,
                "wait_bounds": [step.wait.low, step.wait.high] if step.wait else None,
                "waited_at": step.waited_at or None,
                "from": step.hop.sender or None,
                "address": step.hop.address or None,
                "by": step.hop.receiver or None,
                "via": step.hop.via or None,
                "with": step.hop.protocol or None,
                "id": step.hop.id or None,
                "for": step.hop.recipient or None,
                "secure": step.hop.secure,
                "tls": step.hop.tls or None,
                "cipher": step.hop.cipher or None,
                "rest": step.hop.rest or None,
                "repeated": step.repeated,
            }
            for step in way.steps
        ],
        "results": [
            {
                "server": claim.checked.server,
                "verified": claim.verified,
                "methods": [
                    {
                        "method": result.method,
                        "result": result.value,
                        "reason": result.reason or None,
                        "of": result.properties,
                    }
                    for result in claim.checked.results
                ],
            }
            for claim in way.claims
        ],
    }
