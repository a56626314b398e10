"""`kite log search` and `kite log follow`."""

from __future__ import annotations

import itertools
import shutil
import time
from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from copper_kite.cli.output.show import STATE_COLOURS, console, echo, json_text, json_time, local_time, print_json
from copper_kite.cli.shared.options import INSTANT, json_option, load_settings, options_of, queue_place
from copper_kite.words import OUTCOMES

if TYPE_CHECKING:
    from copper_kite.trace import Entry, LogSource, Sought

__all__ = ["entry_json", "log", "source_options", "sources_of"]


@click.group()
def log() -> None:
    """Search or follow the journal, or the logs of other programs and hosts."""


_SOURCES = (
    click.option(
        "--in",
        "files",
        multiple=True,
        metavar="FILE[=MAP]",
        help="Read this log instead: a file, a folder, a name of [[other_log]], or - for standard input.",
    ),
    click.option("--map", "map_name", metavar="MAP", help="Line map to read it with: a file, or a shipped map."),
    click.option("--rotated", is_flag=True, help="Also read rotated files: FILE.1, FILE.2.gz, FILE-DATE."),
)
_FILTERS = (
    click.argument("words", nargs=-1),
    *_SOURCES,
    click.option("--id", default="", help="About this message."),
    click.option("--from", "sender", metavar="TEXT", default="", help="Sender contains this."),
    click.option("--to", "recipient", metavar="TEXT", default="", help="Recipient contains this."),
    click.option("--code", metavar="TEXT", default="", help="Reply code starts with this."),
    click.option("--outcome", type=click.Choice(OUTCOMES), default=None, help="Outcome."),
    click.option("--any-case", is_flag=True, help="Ignore case in WORDS."),
)


source_options, _filters = options_of(_SOURCES), options_of(_FILTERS)


def _sought(given: dict[str, Any], since: float | None = None, until: float | None = None) -> Sought:
    """The filter that the options describe."""
    from copper_kite.trace import Sought

    return Sought(
        words=given["words"],
        any_case=given["any_case"],
        id=given["id"],
        sender=given["sender"],
        recipient=given["recipient"],
        code=given["code"],
        outcome=given["outcome"],
        since=since,
        until=until,
    )


@log.command()
@_filters
@click.option(
    "--since", type=INSTANT, metavar="TIME", help="At or after this time: '2h ago', 09:00, '2026-05-04 09:00'."
)
@click.option("--until", type=INSTANT, metavar="TIME", help="At or before this time.")
@click.option("--limit", type=click.IntRange(1), default=1000, show_default=True, help="Maximum number of entries.")
@click.option("--count", is_flag=True, help="Print only the number of entries.")
@click.option("--dialogue", is_flag=True, help="Search recorded dialogues instead of entries.")
@json_option
@click.pass_obj
def search(
    config: str | None,
    /,
    since: float | None,
    until: float | None,
    limit: int,
    count: bool,
    dialogue: bool,
    as_json: bool,
    **given: Any,
) -> None:
    """Search for entries that contain all WORDS, ordered by time. Exit 1 when there are none."""
    if dialogue and given["files"]:
        raise click.UsageError("--dialogue looks into the journal, which alone keeps dialogues: leave --in out")
    sought = _sought(given, since, until)
    found_all = _dialogues(config, sought) if dialogue else _entries(config, sought, given)
    entries = (entry for entry in found_all if sought.holds(entry))
    if count:
        result = sum(1 for _ in entries)
        echo(result)
        raise SystemExit(0 if result else 1)
    first = list(itertools.islice(entries, limit + 1))
    if as_json:
        print_json([entry_json(entry) for entry in first[:limit]])
    elif first:
        _echo(first[:limit], several=len(given["files"]) > 1)
        if len(first) > limit:
            echo(f"… and more; --limit {limit * 10}, more words, or --since")
    else:
        echo("There is nothing like that.")
    raise SystemExit(0 if first else 1)


def _dialogues(config: str | None, sought: Sought) -> Iterator[Entry]:
    from copper_kite.settings import find_file, sketch
    from copper_kite.trace import dialogue_entries

    result = sketch(find_file(config))
    return dialogue_entries(queue_place(config), result.server_name, sought)


def _entries(config: str | None, sought: Sought, given: dict[str, Any]) -> Iterator[Entry]:
    """The candidate entries in order: of the journal, or of the named logs."""
    from copper_kite.settings import find_file, sketch
    from copper_kite.trace import history_entries

    if not given["files"]:
        result = sketch(find_file(config))
        yield from history_entries(queue_place(config), result.server_name, sought)
        return
    needle, now = sought.needle.encode(), time.time()
    for source in sources_of(config, given["files"], given["map_name"], rotated=given["rotated"]):
        yield from source.search([needle] if needle else [], now, any_case=sought.any_case)


def sources_of(config: str | None, names: Sequence[str], map_name: str | None, *, rotated: bool) -> list[LogSource]:
    """The logs that --in names: files, and those of [[other_log]] by their names."""
    from copper_kite.trace import configured_sources, named_sources

    files = [name for name in names if name == "-" or "=" in name or "/" in name or Path(name).exists()]
    others = [name for name in names if name not in files]
    known = {source.name: source for source in configured_sources(load_settings(config))} if others else {}
    unknown = [name for name in others if name not in known]
    return [
        *named_sources([*files, *unknown], map_name, rotated_too=rotated),
        *(known[name] for name in others if name in known),
    ]


@log.command()
@_filters
@click.option("--last", type=click.IntRange(0), default=10, show_default=True, help="Earlier entries to start with.")
@click.option(
    "--keep-place",
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE",
    help="Save the position in this file and continue from it next time.",
)
@json_option
@click.pass_obj
def follow(config: str | None, /, last: int, keep_place: Path | None, as_json: bool, **given: Any) -> None:
    """Follow what happens from now on, until Ctrl-C; with WORDS and filters, only that.

    It goes on when the server is started again, and when a log is rotated. With --json, one object a line.
    """
    from copper_kite.cli.commands.log_follow import follow_files, follow_journal
    from copper_kite.settings import find_file, sketch

    sought = _sought(given)
    if given["files"]:
        sources = sources_of(config, given["files"], given["map_name"], rotated=False)
        batches = follow_files(sources, last, keep_place)
    else:
        sources, result = [], sketch(find_file(config))
        batches = follow_journal(queue_place(config), result.server_name, last, keep_place)
    try:
        for batch in batches:
            meant = [entry for entry in batch if sought.holds(entry)]
            if as_json:
                for entry in meant:
                    echo(json_text(entry_json(entry)))
            elif meant:
                _echo(meant, several=len(sources) > 1)
    except KeyboardInterrupt:
        raise SystemExit(0) from None


def _echo(entries: Iterable[Entry], *, several: bool) -> None:
    """Print a line each; on a terminal no wider than that."""
    from copper_kite.cli.output.show import cut
    from copper_kite.smtp import visible

    where = console()
    coloured, columns = where.is_terminal and not where.no_color, shutil.get_terminal_size().columns
    for entry in entries:
        line = visible(_line(entry, several=several))
        if where.is_terminal:
            line = cut(line, columns)
        if coloured and entry.outcome in STATE_COLOURS:
            word = f"{entry.outcome:<9}"
            line = line.replace(word, click.style(word, fg=STATE_COLOURS[entry.outcome]), 1)
        click.echo(line, color=coloured)


def _line(entry: Entry, *, several: bool) -> str:
    when = local_time(entry.at) if entry.at is not None else "no time"
    source = f"{entry.source:<12}  " if several else ""
    if not (entry.id or entry.outcome or entry.recipient):
        return f"{when}  {source}{entry.raw}"
    whom = f"→ {entry.recipient}" if entry.recipient else ""
    text = entry.text if entry.text != entry.raw else ""
    told = "  ".join(filter(None, (" ".join(filter(None, (entry.sender, whom))), text)))
    return f"{when}  {source}{entry.outcome or '-':<9}  {entry.id or '-':<10}  {told}"


def entry_json(entry: Entry) -> dict[str, Any]:
    """An entry as JSON values."""
    return {
        "time": json_time(entry.at),
        "source": entry.source,
        "host": entry.host or None,
        "outcome": entry.outcome or None,
        "id": entry.id or None,
        "message_id": entry.message_id or None,
        "from": entry.sender or None,
        "to": entry.recipient or None,
        "code": entry.code or None,
        "text": entry.text,
        "line": entry.raw,
    }
