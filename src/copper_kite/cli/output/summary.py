"""`kite queue` alone, the summary of what waits; and `kite queue show`, one message."""

from __future__ import annotations

import contextlib
import time
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from copper_kite.cli.output.show import (
    STATE_COLOURS,
    age,
    echo,
    json_time,
    local_times,
    print_json,
    print_table,
    recipient_json,
    say,
    size,
)
from copper_kite.smtp import visible

if TYPE_CHECKING:
    from copper_kite.store import Attempt, QueueGroup, Record, StorePlace

__all__ = ["show_one", "show_summary"]

BY = ("state", "connector", "next hop", "reason", "domain")
MOST = 8  # groups shown of each kind


def show_summary(place: StorePlace, *, as_json: bool) -> None:
    """The waiting recipients by state, connector, reason and domain, with ages and next tries."""
    from copper_kite.store import open_store

    with open_store(place).reader() as reader:
        groups = {by: reader.groups(by) for by in BY}
    now = time.time()
    if as_json:
        print_json({by.replace(" ", "_"): [_group_json(group) for group in result] for by, result in groups.items()})
        return
    if not groups["state"]:
        echo("Nothing waits.")
        return
    for by in BY:
        _show_groups(by, groups[by], now)
    echo("kite queue list shows them, by the same words: --state --connector --next-hop --reason --to DOMAIN")


def _show_groups(by: str, groups: Sequence[QueueGroup], now: float) -> None:
    print_table(
        (by, "recipients", "messages", "oldest", "next try"),
        [
            (
                group.name or "-",
                str(group.recipients),
                str(group.messages),
                age(now - group.oldest),
                "-"
                if group.next_try is None
                else ("now" if group.next_try <= now else f"in {age(group.next_try - now)}"),
            )
            for group in groups[:MOST]
        ],
        right=("recipients", "messages", "oldest"),
        colours=STATE_COLOURS,
        wraps=True,
    )
    if len(groups) > MOST:
        echo(f"… and {len(groups) - MOST} more")
    echo()


def _group_json(group: QueueGroup) -> dict[str, object]:
    return {
        "name": group.name,
        "recipients": group.recipients,
        "messages": group.messages,
        "oldest": json_time(group.oldest),
        "next_try": json_time(group.next_try),
    }


def show_one(place: StorePlace, id: str, *, as_json: bool) -> None:
    """Envelope, recipients, attempts and header."""
    from copper_kite.errors import ContentUnreadable
    from copper_kite.mail import header_end
    from copper_kite.store import open_store

    first = b""
    with open_store(place).reader() as reader:
        record = reader.record(reader.resolve(id))
        with contextlib.suppress(ContentUnreadable):  # all else is still to be seen
            first = next(reader.content(record.message.id), b"")
    header = first[: header_end(first)].decode("utf-8", "replace").replace("\r\n", "\n")
    if as_json:
        print_json({**_record_json(record), "header": header or None})
    else:
        _print_record(record, header)


def _record_json(record: Record) -> dict[str, object]:
    from copper_kite.store import id_text

    message = record.message
    return {
        "id": id_text(message.id),
        "from": message.reverse_path,
        "arrived": json_time(message.arrived),
        "expires": json_time(message.expires),
        "size": message.size,
        "listener": message.listener,
        "client": message.client,
        "user": message.user or None,
        "mail_parameters": message.esmtp_parameters,
        "recipients": [
            {**recipient_json(recipient), "rcpt_parameters": recipient.esmtp_parameters}
            for recipient in record.recipients
        ],
        "attempts": [
            {
                "time": json_time(attempt.at),
                "seconds": round(attempt.seconds, 4),
                "connector": attempt.connector or None,
                "next_hop": attempt.next_hop or None,
                "stage": attempt.stage,
                "code": attempt.code,
                "text": attempt.text,
            }
            for attempt in record.attempts
        ],
    }


def _print_record(record: Record, header: str) -> None:
    from copper_kite.store import id_text
    from copper_kite.words import FINAL

    now, message = time.time(), record.message
    say((id_text(message.id), "bold"), f"  from <{message.reverse_path}> {message.esmtp_parameters}".rstrip())
    who = f"{message.user or message.client} through listener {message.listener}" if message.listener else "this server"
    say(f"{size(message.size)}, taken {age(now - message.arrived)} ago from {who}", indent=2)
    if any(recipient.state not in FINAL for recipient in record.recipients):
        left = f"it is tried for {age(message.expires - now)} more" if message.expires > now else "its lifetime is over"
        say(left, indent=2)
    echo()
    print_table(
        ("to", "state", "tries", "connector", "last reply"),
        [
            (
                recipient.address,
                recipient.state.value,
                str(recipient.attempts),
                recipient.connector,
                visible(recipient.reply),
            )
            for recipient in record.recipients
        ],
        right=("tries",),
        colours=STATE_COLOURS,
        wraps=True,
    )
    if record.attempts:
        echo()
        _print_attempts(record.attempts)
    echo()
    echo("\n".join(visible(line) for line in header.splitlines()) if header else "Its content is not kept any longer.")


def _in_vain(attempt: Attempt) -> Iterator[tuple[str, ...]]:
    """The next hops that it passed over, and the addresses that it tried in vain."""
    session = attempt.facts.session
    for hop in session.passed_over:
        if any(hop.next_hop == tried.next_hop for tried in session.tried):
            continue
        yield "", "down", attempt.connector, hop.next_hop, hop.stage, visible(hop.said)
    for tried in session.tried:
        if attempt.facts.relayed or (tried.next_hop, tried.address) != (attempt.next_hop, attempt.address):
            yield "", "tried", attempt.connector, tried.next_hop, tried.stage, visible(tried.said)


def _print_attempts(attempts: Sequence[Attempt]) -> None:

    print_table(
        ("attempt", "took", "connector", "next hop", "stage", "what came of it"),
        [
            row
            for at, result in zip(local_times([attempt.at for attempt in attempts]), attempts, strict=True)
            for row in (
                *_in_vain(result),
                (
                    at,
                    f"{result.seconds:.2f} s",
                    result.connector,
                    result.next_hop,
                    result.stage,
                    visible(" ".join(filter(None, (str(result.code or ""), result.enhanced, result.text)))),
                ),
            )
        ],
        right=("took",),
        wraps=True,
    )
