"""`kite trace`."""

from __future__ import annotations

import contextlib
import time
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import click

from copper_kite.cli.commands.log import entry_json, source_options, sources_of
from copper_kite.cli.commands.trace_refused import show_refused
from copper_kite.cli.output.probe_output import print_dialogue
from copper_kite.cli.output.queue_table import message_json, row_json
from copper_kite.cli.output.show import (
    STATE_COLOURS,
    echo,
    json_time,
    local_time,
    local_times,
    print_json,
    print_table,
    print_verdict,
    say,
    size,
    verdict_json,
)
from copper_kite.cli.shared.completion import complete_ids
from copper_kite.cli.shared.options import INSTANT, json_option, load_settings, queue_place
from copper_kite.cli.shared.selection import filters, selection

if TYPE_CHECKING:
    from copper_kite.settings import Loaded
    from copper_kite.store import Attempt, JournalEntry, QueueRow, Reader, Selection, StorePlace
    from copper_kite.trace import Entry, Story

__all__ = ["load_story", "show_story", "story_json", "story_of", "trace"]


@click.command()
@click.argument("what", required=False, shell_complete=complete_ids)
@filters
@click.option("--since", type=INSTANT, metavar="TIME", help="Accepted at or after this time, as in '2h ago' or 09:00.")
@click.option("--until", type=INSTANT, metavar="TIME", help="Accepted at or before this time.")
@click.option("--limit", type=click.IntRange(1), default=50, show_default=True, help="Maximum lines of a list.")
@click.option("--dialogue", is_flag=True, help="Show the dialogues of attempts that failed or were recorded.")
@source_options
@click.option("--refused", is_flag=True, help="Instead: what listeners refused, by client, reason and count.")
@json_option
@click.pass_obj
def trace(
    config: str | None,
    /,
    what: str | None,
    since: float | None,
    until: float | None,
    limit: int,
    dialogue: bool,
    files: tuple[str, ...],
    map_name: str | None,
    rotated: bool,
    refused: bool,
    as_json: bool,
    **given: Any,
) -> None:
    """Show what happened to a message, and the verdict.

    WHAT is an id, or the beginning of one that only one message has; a Message-ID, with or without its angle brackets;
    the address (or domain) of a sender or recipient; or words of the subject, of an address or of the last reply.
    Filters narrow it; of several messages, a list is shown. The story of one goes on in the logs of other programs and
    hosts: those that --in names, and those of [[other_log]] in the configuration.
    """
    from copper_kite.errors import NotFound
    from copper_kite.settings import find_file, sketch
    from copper_kite.store import open_store

    if refused:
        known = {"sender", "to", "who", "reason"}
        if what is not None or any(value for name, value in given.items() if name not in known):
            raise click.UsageError("--refused has the filters --from, --to, --who, --reason, --since and --until")
        seconds = 86400.0 if since is None else time.time() - since
        show_refused(queue_place(config), seconds, until, given, as_json=as_json)
        return
    file = find_file(config)
    result = sketch(file)
    place = queue_place(config)
    with open_store(place).reader() as reader:
        chosen = _meant(reader, what, since, until, given)
        rows = reader.select(chosen, limit + 1, newest=True)
        if not rows and "@" in chosen.anyone:  # nobody's address, but a Message-ID looks like one
            rows = reader.select(chosen._replace(anyone="", message_id=f"<{chosen.anyone}>"), limit + 1, newest=True)
        if not rows:
            raise NotFound(what or "like that")
        ids = list(dict.fromkeys(row.message.id for row in rows))
        if len(ids) > 1:
            _show_list(rows, limit, as_json=as_json)
            return
        story = load_story(place, result.connectors, reader, ids[0])
    if files or result.has_other_logs:
        story = _gone_on(story, config, files, map_name, rotated=rotated)
    if as_json:
        print_json(story_json(story))
    else:
        show_story(story, dialogue=dialogue)


def _meant(
    reader: Reader, what: str | None, since: float | None, until: float | None, given: dict[str, Any]
) -> Selection:
    """The recipients that are meant. Raises Ambiguous, or UsageError for nothing at all."""
    from copper_kite.errors import NotFound
    from copper_kite.words import State

    chosen = selection(reader, (), given)
    if what is None and since is None and until is None and not any(given.values()):
        raise click.UsageError("say what: an id, a Message-ID, an address, or a filter such as --to or --state")
    chosen = chosen._replace(states=chosen.states or tuple(State), since=since)
    if until is not None:
        chosen = chosen._replace(older=until if chosen.older is None else min(until, chosen.older))
    if what is None:
        return chosen
    if what.startswith("<") and "@" in what:
        return chosen._replace(message_id=what)
    with contextlib.suppress(NotFound):
        return chosen._replace(ids=[reader.resolve(what)])
    if " " not in what and ("@" in what or "." in what.strip(".")):
        return chosen._replace(anyone=what)
    return chosen._replace(text=what)


def _show_list(rows: list[QueueRow], limit: int, *, as_json: bool) -> None:
    """Several messages, the latest first."""
    from copper_kite.store import id_text

    if as_json:
        print_json([row_json(row) for row in rows[:limit]])
        return
    times = local_times([row.message.arrived for row in rows[:limit]])
    print_table(
        ("id", "taken", "state", "from", "to", "last reply"),
        [
            (id_text(row.message.id), at, row.recipient.state.value, row.message.reverse_path or "<>",
             row.recipient.address, row.recipient.reply)
            for at, row in zip(times, rows[:limit], strict=True)
        ],
        gap=1,
        colours=STATE_COLOURS,
    )  # fmt: skip
    if len(rows) > limit:
        echo("… and more; --limit, or a filter, or --since")
    echo("kite trace ID tells the story of one")


def load_story(place: StorePlace, connectors: Sequence[Any], reader: Reader, id: int) -> Story:
    """The history of one message, explained with the `connectors` of the configuration."""
    from copper_kite.store import read_live, running_server
    from copper_kite.trace import attempt_of, tell_story

    record = reader.record(id)
    running = running_server(place.folder) is not None
    lanes = read_live(place.folder) if running else []
    return tell_story(
        record,
        {
            "connectors": {
                connector.name: {"credential": connector.credential, "mx": connector.mx} for connector in connectors
            }
        },
        running=running,
        stops=reader.stops(record.message.arrived),
        attempt=attempt_of(lanes, record.message, record.recipients),
        now=time.time(),
    )


def story_of(loaded: Loaded, reader: Reader, id: int) -> Story:
    """The same where the configuration is loaded already."""
    return load_story(loaded.store, loaded.settings.connector, reader, id)


def _gone_on(story: Story, config: str | None, files: Sequence[str], map_name: str | None, *, rotated: bool) -> Story:
    """The story with what the logs of others have of it."""
    from copper_kite.trace import configured_sources, follow_elsewhere

    named = sources_of(config, files, map_name, rotated=rotated)
    others = [source for source in configured_sources(load_settings(config)) if source not in named]
    return follow_elsewhere(story, [*named, *others], time.time())


def show_story(story: Story, *, dialogue: bool = False) -> None:
    """The story as text."""
    from copper_kite.store import id_text
    from copper_kite.words import Priority

    message = story.message
    urgency = f", {Priority.of(message.priority).value}" if message.priority else ""
    say((id_text(message.id), "bold"), f"  from <{message.reverse_path}>, {size(message.size)}{urgency}")
    if message.message_id:
        say(f"Message-ID {message.message_id}", indent=2)
    if message.subject:
        say(f"subject {message.subject}", indent=2)
    for recipient in story.recipients:
        state = recipient.state.value
        when = ""
        if recipient.next_try is not None and recipient.attempts:
            when = f", next try {local_time(recipient.next_try)}"
        tries = f" after {_attempts(recipient.attempts)}{when}"
        say(f"to {recipient.address}: ", (state, STATE_COLOURS.get(state, "")), tries, indent=2)
    echo()
    times = local_times([line.at for line in story.lines])
    several = any(line.server for line in story.lines)
    rows: list[tuple[str, ...]] = [
        ("" if line.what == "waited" else at, line.what, line.stage, line.who, line.code, line.text)
        for at, line in zip(times, story.lines, strict=True)
    ]
    if several:
        rows = [(at, line.server.partition(".")[0], *row) for (at, *row), line in zip(rows, story.lines, strict=True)]
    print_table(
        ("time", *(["server"] * several), "what", "stage", "who", "code", "text"),
        rows,
        wraps=True,
        colours=STATE_COLOURS,
    )
    if story.elsewhere:
        _show_elsewhere(story.elsewhere)
    if dialogue:
        for entry in story.submissions:
            _show_submission(entry)
        for attempt in story.attempts:
            _show_dialogue(attempt)
    echo()
    print_verdict(story.verdict)


def _show_elsewhere(entries: Sequence[Entry]) -> None:
    """Print the entries in the logs of other programs and hosts."""

    echo()
    say(("In other logs", "bold"))
    timed = iter(local_times([entry.at for entry in entries if entry.at is not None]))
    print_table(
        ("time", "log", "what", "id", "text"),
        [
            (
                next(timed) if entry.at is not None else "-",
                entry.source,
                entry.outcome or "-",
                entry.id,
                _told_there(entry),
            )
            for entry in entries
        ],
        wraps=True,
        colours=STATE_COLOURS,
    )


def _told_there(entry: Entry) -> str:
    if entry.outcome == "accepted" and entry.sender:
        return f"from {entry.sender}" + (f" for {entry.recipient}" if entry.recipient else "")
    return f"{entry.recipient}: {entry.text}" if entry.recipient else entry.text


def _attempts(count: int) -> str:
    return {0: "no attempt", 1: "1 attempt"}.get(count, f"{count} attempts")


def _show_dialogue(attempt: Attempt) -> None:
    from copper_kite.trace import session_words

    echo()
    say((f"Dialogue with {attempt.next_hop or 'nobody'} at {local_time(attempt.at)}", "bold"))
    session = attempt.facts.session
    where = f"address {attempt.address}, " if attempt.address else ""
    mechanism = f" by {session.mechanism}" if session.mechanism else ""
    say(f"{where}{session_words(session)}{mechanism}, {attempt.seconds:.3f} s", indent=2)
    for next_hop, address, stage, _, said in session.tried:
        say(f"{address or next_hop} gave no session, stage {stage}: {said}", indent=2)
    if not attempt.dialogue:
        said = "all went well, so only the stages were kept" if attempt.facts.relayed else "no session was opened"
        echo(f"  {said}")
        for stage, took, text in session.stages:
            echo(f"  {took:8.3f} s  {stage:<8} {text}")
        return
    print_dialogue(attempt.dialogue)


def _show_submission(entry: JournalEntry) -> None:
    """Print the dialogue between a program and a listener, where it was recorded."""
    echo()
    say((f"Dialogue of listener {entry.facts['listener']} with {entry.facts['client']}", "bold"))
    print_dialogue(entry.facts["lines"])


def story_json(story: Story) -> dict[str, Any]:
    """The story as JSON values."""
    message = story.message
    return {
        **message_json(message),
        "message_id": message.message_id or None,
        "subject": message.subject or None,
        "listener": message.listener or None,
        "client": message.client or None,
        "user": message.user or None,
        "protocol": message.protocol,
        "tls": message.tls or None,
        "recipients": [
            {
                "address": recipient.address,
                "state": recipient.state.value,
                "attempts": recipient.attempts,
                "next_try": json_time(recipient.next_try),
                "last_reply": recipient.reply or None,
            }
            for recipient in story.recipients
        ],
        "timeline": [
            {
                "time": json_time(line.at),
                "what": line.what,
                "stage": line.stage or None,
                "who": line.who,
                "code": line.code or None,
                "text": line.text,
                **({"server": line.server} if line.server else {}),
            }
            for line in story.lines
        ],
        "attempts": [_attempt_json(attempt) for attempt in story.attempts],
        "submissions": [
            {"listener": entry.facts["listener"], "client": entry.facts["client"], "dialogue": entry.facts["lines"]}
            for entry in story.submissions
        ],
        "elsewhere": [entry_json(entry) for entry in story.elsewhere],
        "verdict": verdict_json(story.verdict),
    }


def _attempt_json(attempt: Attempt) -> dict[str, Any]:
    session = attempt.facts.session
    return {
        "time": json_time(attempt.at),
        "seconds": round(attempt.seconds, 4),
        "connector": attempt.connector or None,
        "next_hop": attempt.next_hop or None,
        "address": attempt.address or None,
        "stage": attempt.stage,
        "side": attempt.side or None,
        "cause": attempt.cause or None,
        "code": attempt.code,
        "enhanced": attempt.enhanced or None,
        "text": attempt.text,
        "tls": session.tls or None,
        "cipher": session.cipher or None,
        "resumed": session.resumed,
        "login": session.login or None,
        "mechanism": session.mechanism or None,
        "mode": session.mode or None,
        "trust": session.trust or None,
        "changed": attempt.facts.changed or None,
        "policy": attempt.facts.session.policy or None,
        "signed": attempt.facts.session.signed or None,
        "tried": [
            {"next_hop": next_hop, "address": address or None, "stage": stage, "cause": cause, "said": said}
            for next_hop, address, stage, cause, said in session.tried
        ],
        "passed_over": [
            {**hop._asdict(), "address": hop.address or None, "since": json_time(hop.since)}
            for hop in session.passed_over
        ],
        "stages": [{"stage": stage, "seconds": took, "said": said} for stage, took, said in session.stages],
        "results": [
            {"recipient": address, "state": state, "stage": stage, "reply": reply or None}
            for address, state, stage, reply in attempt.facts.results
        ],
        "dialogue": attempt.dialogue,
    }
