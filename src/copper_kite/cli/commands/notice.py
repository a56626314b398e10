"""`kite notice`."""

from __future__ import annotations

import sys
import time
from collections.abc import Iterator, Sequence
from itertools import islice
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from copper_kite.cli.output.show import (
    STATE_COLOURS,
    echo,
    json_time,
    local_time,
    print_json,
    print_table,
    print_verdict,
    say,
    verdict_json,
)
from copper_kite.cli.shared.options import json_option, settings_or_none

if TYPE_CHECKING:
    from copper_kite.mail import Returned
    from copper_kite.settings import Loaded
    from copper_kite.store import StorePlace
    from copper_kite.trace import Group, Told
    from copper_kite.verdict import Verdict

__all__ = ["notice"]

SHOWN = 20  # groups


@click.command()
@click.argument("paths", nargs=-1, type=click.Path(exists=True, allow_dash=True, path_type=Path), metavar="[PATH...]")
@click.option("--limit", type=click.IntRange(1), default=100_000, show_default=True, help="Maximum number of messages.")
@click.option("--look-only", is_flag=True, help="Do not record it in the stories of our messages.")
@json_option
@click.pass_obj
def notice(config: str | None, paths: tuple[Path, ...], limit: int, look_only: bool, as_json: bool) -> None:
    """Explain delivery notices from other servers: which recipient, what happened, and what to do.

    PATH is a message, an mbox, or a folder of them; without it, or with -, standard input. Those about messages that
    left here are noted in their stories, as `kite trace` tells them.
    """
    from copper_kite.mail import read_notice

    contents, read = _contents(paths or (Path("-"),)), 0
    notices: list[Returned] = []
    for content in islice(contents, limit):
        read += 1
        if (returned := read_notice(content)) is not None:
            notices.append(returned)
    if read == limit and next(contents, None) is not None:
        echo(
            f"There are more messages than the {limit} that were read; --limit {limit * 10} reads more.",
            err=True,
        )
    loaded = settings_or_none(config)
    told, noted = _joined(loaded, notices, note=not look_only)
    rest = read - len(notices)
    if as_json:
        print_json([_told_json(item) for item in told])
        return
    if not told:
        echo(f"None of {read} is a notice." if rest != 1 else "It is no notice.")
        sys.exit(1)
    if len(told) == 1:
        _show_one(told[0])
    else:
        _show_groups(told, len(notices))
    if noted:
        echo(f"Noted in the stor{'ies' if noted > 1 else 'y'} of {noted} recipient{'s' * (noted > 1)}.")
    if rest:
        echo(f"{rest} more {'are' if rest > 1 else 'is'} no notice.")
    echo()
    print_verdict(_verdict(told))


def _contents(paths: Sequence[Path]) -> Iterator[bytes]:
    from copper_kite.mail import mbox_lines, mbox_messages

    for path in paths:
        if str(path) == "-":
            yield from mbox_messages(mbox_lines(sys.stdin.buffer))
        elif path.is_dir():
            yield from _contents(sorted(inner for inner in path.rglob("*") if inner.is_file()))
        else:
            with path.open("rb") as file:
                yield from mbox_messages(mbox_lines(file))


def _joined(loaded: Loaded | None, notices: Sequence[Any], *, note: bool) -> tuple[list[Told], int]:
    """The notice with our messages where they are found; and how many of its entries were new and are now recorded."""
    from copper_kite.errors import StoreError
    from copper_kite.store import open_store
    from copper_kite.trace import Told, find_message, notice_entries

    try:
        reader = open_store(loaded.store).reader() if loaded is not None else None
    except StoreError:
        reader = None
    if loaded is None or reader is None:
        return [Told(item, about, None) for item in notices for about in item.recipients], 0
    told, entries = [], []
    with reader:
        for item in notices:
            match = find_message(reader, loaded.server_name, item)
            id, sender = (match[0].id, match[0].reverse_path) if match is not None else (None, "")
            of_it = [Told(item, about, id, sender) for about in item.recipients]
            told += of_it
            if note and id is not None:
                entries += notice_entries(reader.record(id), of_it, time.time())
    if entries:
        _write(loaded.store, entries)
    return told, len(entries)


def _write(place: StorePlace, entries: list[Any]) -> None:
    from copper_kite.store import WriteEntry, open_store

    (error,) = open_store(place).write([[WriteEntry(entry) for entry in entries]])
    if error is not None:
        raise click.ClickException(f"the stories cannot be written: {error}")


def _show_one(entry: Told) -> None:
    from copper_kite.store import id_text

    about, result = entry.about, entry.notice
    when = f" at {local_time(result.at)}" if result.at is not None else ""
    say(
        (about.action or "told", STATE_COLOURS.get(about.action, "bold")),
        f"  for {about.recipient}, says {result.reporter or 'nobody'}{when}",
    )
    message = " ".join(filter(None, (result.message_id, result.subject)))
    ours = f"our {id_text(entry.id)}" if entry.id is not None else "no message that the queue knows"
    say(f"about {ours}{f': {message}' * bool(message)}", indent=2)
    for name, value in (("at", about.at_server), ("status", about.status), ("said", about.said)):
        if value:
            say(f"{name:<6}  {value}", indent=2)
    if result.form == "words":
        say("It is not in the form of RFC 3464; what it says was found among its words.", indent=2)
    elif about.missing:
        say(f"It lacks what RFC 3464 demands: {', '.join(about.missing)}.", indent=2)


def _show_groups(told: Sequence[Told], notices: int) -> None:
    from copper_kite.trace import group_told

    tells = "1 notice tells" if notices == 1 else f"{notices} notices tell"
    echo(f"{tells} of {len(told)} recipients.\n")
    groups = group_told(told)
    print_table(
        ("action", "count", "ours", "status", "at", "for", "said"),
        [_group_row(group) for group in groups[:SHOWN]],
        right=("count", "ours"),
        wraps=True,
    )
    if len(groups) > SHOWN:
        echo(f"… and {len(groups) - SHOWN} more kinds")
    echo()


def _group_row(group: Group) -> tuple[str, ...]:
    first = group.told[0].about
    others = f" and {len(group.told) - 1} more" if len(group.told) > 1 else ""
    ours = sum(item.id is not None for item in group.told)
    return (
        group.action or "-", str(len(group.told)), str(ours), group.status or "-", group.at_server,
        f"{first.recipient}{others}", first.said,
    )  # fmt: skip


def _verdict(told: Sequence[Told]) -> Verdict:
    """The verdict on the most frequent result; where some failed and others wait, on the larger group."""
    from copper_kite.trace import group_told
    from copper_kite.verdict import Verdict

    groups = group_told(told)
    most = next((group for group in groups if group.action == "failed"), groups[0])
    first = _verdict_on(most, len(told))
    other = next((group for group in groups if group.action == "delayed" and group is not most), None)
    if most.action != "failed" or other is None:
        return first
    second = _verdict_on(other, len(told))
    advice = "; ".join(dict.fromkeys(filter(None, (first.advice, second.advice))))
    return Verdict(
        first.side, f"{first.meaning} {second.meaning}", f"{first.evidence}; {second.evidence}", first.next, advice
    )


def _verdict_on(group: Group, of: int) -> Verdict:
    from copper_kite.trace import judge_told

    result = group.told[0]
    judged = judge_told(result.facts, _known(result))
    opening = {"failed": "Returned from beyond", "delayed": "It waits beyond"}.get(
        result.about.action, "Told from beyond"
    )
    whom = result.about.recipient if len(group.told) == 1 else f"{len(group.told)} recipients"
    evidence = result.about.said or result.about.status or "the notice alone"
    count = f", {len(group.told)} of {of}" if of > 1 else ""
    return judged.verdict(f"{opening} for {whom}. {judged.meaning}", f"{evidence}{count}")


def _known(entry: Told) -> dict[str, str]:
    from copper_kite.store import id_text

    return {"sender": entry.sender} | ({} if entry.id is None else {"id": id_text(entry.id)})


def _told_json(entry: Told) -> dict[str, Any]:
    from copper_kite.store import id_text
    from copper_kite.verdict import standard_meaning

    about, result = entry.about, entry.notice
    return {
        "notice": result.id or None,
        "form": result.form,
        "time": json_time(result.at),
        "reporter": result.reporter or None,
        "id": None if entry.id is None else id_text(entry.id),
        "message_id": result.message_id or None,
        "subject": result.subject or None,
        "recipient": about.recipient,
        "original_recipient": about.original or None,
        "action": about.action or None,
        "status": about.status or None,
        "status_means": standard_meaning(about.status) or None if about.status else None,
        "said": about.said or None,
        "at_server": about.at_server or None,
        "retried_until": json_time(about.until),
        "missing": list(about.missing),
        "others": about.others,
        "verdict": verdict_json(_verdict([entry])),
    }
