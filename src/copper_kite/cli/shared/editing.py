"""The steps of every command that changes the configuration: change, check, write, and reload the running server."""

from __future__ import annotations

import os
import signal
import time
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from copper_kite.cli.output.show import echo, say
from copper_kite.cli.shared.completion import complete_keys, complete_names
from copper_kite.cli.shared.options import load_settings
from copper_kite.errors import Finding, InputError, SettingsError

if TYPE_CHECKING:
    from click.shell_completion import CompletionItem
    from pydantic import BaseModel

    from copper_kite.settings import Assignment, Block, Document, Loaded

__all__ = [
    "change",
    "complete_section_keys",
    "handed_over",
    "judge_change",
    "make_family",
    "near",
    "plain_entry",
    "show_entry",
    "take_up",
    "take_up_secrets",
]

ANSWER_SECONDS = 10.0  # what the running server may take to say yes or no


def change(config: str | None, edit: Callable[[Document], None], done: str, *, anyway: bool = False) -> bool:
    """Change the configuration in place; whether the running server, if there is one, goes by it.

    Raises SettingsError, with nothing written, for what `kite check` calls an error and was none before; unless it is
    to be written `anyway`.
    """
    from copper_kite.settings import Document, data_folder_in, find_config, read_source, write_file

    path = find_config(config)
    before = read_source(path)
    document = Document(before)
    edit(document)
    if document.text == before:
        echo("nothing to change")
        return True
    loaded, errors = judge_change(path, before, document.text)
    if errors and not anyway:
        raise SettingsError(errors, "nothing was written; --anyway writes it despite the errors")
    write_file(path, document.text)
    echo(f"{done} in {path}; the version before is {path}.last")
    if loaded is None:
        say(("no server can go by it as it is:", "bold red"))
        echo("\n".join(map(str, errors)))
        return False
    return take_up(loaded, data_folder_in(path, before))


def judge_change(path: Path, before: str, after: str) -> tuple[Loaded | None, list[Finding]]:
    """The configuration as it would be, if it can be used, and the errors that it has and had not before."""
    from copper_kite.posture import check_source

    now = time.time()
    loaded, result = check_source(path, after, now)
    known = {(finding.key, finding.problem) for finding in check_source(path, before, now)[1]}
    errors = [finding for finding in result if finding.level == "error" and (finding.key, finding.problem) not in known]
    if loaded is None and not errors:  # the file had errors before this change: report those
        errors = [finding for finding in result if finding.level == "error"]
    return loaded, errors


def take_up(loaded: Loaded, folder: Path | None = None) -> bool:
    """Make the running server reload `loaded`, and say whether it did; `folder` is its data folder, where that is not
    the one that `loaded` names."""
    from copper_kite.store import read_note, running_server

    folder = folder or loaded.data
    running = running_server(folder)
    if running is None:
        echo("no server runs now; the next `kite serve` goes by it")
        return True
    asked = time.time()
    try:
        os.kill(running.pid, signal.SIGHUP)
    except ProcessLookupError:
        echo("the server has ended meanwhile; the next `kite serve` goes by it")
        return True
    except PermissionError:
        echo(f"the running server is another user's: have it take this up with  kill -HUP {running.pid}")
        return True
    while time.time() < asked + ANSWER_SECONDS:
        note = read_note(folder)
        if note is not None and note.refused_at is not None and note.refused_at >= asked:
            say(("the running server refused it and goes on as it was:", "bold red"))
            for problem in note.problems:
                echo(f"  {problem}")
            return False
        if note is not None and note.refused_at is None and note.taken_at >= asked and note.source == loaded.source:
            echo("the running server has taken it up")
            for problem in note.problems:
                say((f"but {problem}", "yellow"))
            return True
        time.sleep(0.02)
    say(("the running server has not answered; `kite status` tells what it goes by", "bold red"))
    return False


def take_up_secrets(loaded: Loaded) -> None:
    """As `take_up`, after a file of secrets changed: a service manager hands those over at the start only."""
    if handed_over(loaded) is not None:
        echo("the running server has its secrets from systemd: `systemctl restart copper-kite` hands over the new")
    else:
        take_up(loaded)


def handed_over(loaded: Loaded) -> Path | None:
    """The folder of secrets that a service manager handed over to the running server, where it did."""
    from copper_kite.store import running_server

    running = running_server(loaded.data)
    try:
        environ = Path(f"/proc/{running.pid}/environ").read_bytes() if running else b""
    except OSError:
        environ = b""
    values = dict(line.partition(b"=")[::2] for line in environ.split(b"\0"))
    folder = values.get(b"CREDENTIALS_DIRECTORY")
    return Path(folder.decode("utf-8", "replace")) if folder else None


def near(wanted: str, names: Sequence[str], what: str) -> InputError:
    """The error for a name that is not there, with the nearest that is."""
    import difflib

    matches = difflib.get_close_matches(wanted, names, 1)
    hint = f"did you mean {matches[0]!r}?" if matches else f"there are {', '.join(names) or 'none'}"
    return InputError(f"no {what} {wanted!r}; {hint}", usage=True)


def complete_section_keys(ctx: click.Context, parameter: click.Parameter, incomplete: str) -> list[CompletionItem]:
    """Completion of the keys of the section that was named."""
    from click.shell_completion import CompletionItem

    fields = _model_of(str(ctx.params.get("section", "server"))).model_fields
    return [CompletionItem(f"{key}=") for key in fields if key.startswith(incomplete)]


def _model_of(table: str) -> type[BaseModel]:
    from copper_kite.settings import model_of

    return model_of(table)


def make_family(table: str, about: str, breaks: Callable[[Loaded, str], list[str]]) -> click.Group:
    """`show`, `add`, `set`, `enable`, `disable`, `copy` and `remove` for one kind of table.

    `breaks` says, in lines, what would no longer work without the one of that name.
    """
    group = click.Group(table, help=about)
    family = _Family(table, breaks)
    noun = f"an {table}" if table[0] in "aeiou" else f"a {table}"
    name = click.Argument(["name"], shell_complete=complete_names(table))
    keys = click.Argument(
        ["assignments"], nargs=-1, metavar="KEY=VALUE...", shell_complete=complete_keys(lambda: _model_of(table))
    )
    into = click.Option(["--into"], metavar="FILE", help="Copy into this file, which may be new.")
    yes = click.Option(["--yes"], is_flag=True, help="Do not ask.")
    anyway = click.Option(["--anyway"], is_flag=True, help="Write it even if `kite check` finds an error.")
    as_json = click.Option(["--json", "as_json"], is_flag=True, help="Print JSON.")
    commands: tuple[tuple[str, Callable[..., None], list[click.Parameter], str], ...] = (
        (
            "show",
            family.show,
            [name, as_json],
            f"Show all keys of {noun}, with the defaults of those not in the file.",
        ),
        ("add", family.add, [click.Argument(["name"]), keys, anyway], f"Add {noun}. {_LISTS} {_keys_of(table)}"),
        ("set", family.set, [name, keys, anyway], f"Change keys of {noun}. {_LISTS} {_keys_of(table)}"),
        ("enable", family.enable, [name, anyway], f"Enable {noun}."),
        ("disable", family.disable, [name, anyway], f"Disable {noun}; what it says stays in the file."),
        (
            "copy",
            family.copy,
            [name, click.Argument(["new"]), keys, into, anyway],
            f"Copy {noun} under a NEW name, with other keys, here or into another server's file. {_LISTS}",
        ),
        ("remove", family.remove, [name, yes, anyway], f"Remove {noun}, after showing what would no longer work."),
    )
    for word, callback, parameters, text in commands:
        group.add_command(click.Command(word, callback=click.pass_obj(callback), params=parameters, help=text))
    return group


def _keys_of(table: str) -> str:
    """The keys that it may have."""
    return f"Keys: {', '.join(key for key in _model_of(table).model_fields if key != 'name')}."


_LISTS = (
    "Lists are written with commas (recipients=a.example,b.example); KEY+=VALUE and KEY-=VALUE add to a list and take"
    " from it; KEY= takes a key away, so that its default counts."
)


class _Family:
    """The commands on one kind of table. Each gets the configuration's path first."""

    def __init__(self, table: str, breaks: Callable[[Loaded, str], list[str]]) -> None:
        self._table = table
        self._breaks = breaks

    def _parsed(self, assignments: Sequence[str]) -> list[Assignment]:
        from copper_kite.settings import model_of, parse_assignment

        return [parse_assignment(model_of(self._table), text) for text in assignments]

    def _demand(self, document: Document, name: str) -> Block:
        block = document.find(self._table, name)
        if block is None:
            names = [str(document.values(block).get("name", "")) for block in document.blocks(self._table)]
            raise near(name, names, self._table)
        return block

    def _demand_new(self, document: Document, name: str) -> None:
        if document.find(self._table, name) is not None:
            raise InputError(
                f"{self._table} {name!r} is there already; change it with `kite {self._table} set`", usage=True
            )

    def _assign(self, document: Document, name: str, assignments: Sequence[Assignment]) -> None:
        from copper_kite.settings import apply_assignments

        for assignment in assignments:
            present = document.values(self._demand(document, name))
            document.set(self._table, name, assignment[0], apply_assignments(present, assignment))
            if assignment[0] == "name":
                name = assignment[2]

    def show(self, config: str | None, name: str, as_json: bool) -> None:
        loaded = load_settings(config)
        entries = {entry.name: entry for entry in getattr(loaded.settings, self._table)}
        if name not in entries:
            raise near(name, list(entries), self._table)
        show_entry(entries[name], as_json=as_json)

    def add(self, config: str | None, name: str, assignments: tuple[str, ...], anyway: bool) -> None:
        values = {key: value for key, _, value in self._parsed(assignments)}

        def edit(document: Document) -> None:
            self._demand_new(document, name)
            document.add(self._table, {"name": name, **values})

        taken_up = change(config, edit, f"{self._table} {name} added", anyway=anyway)
        if self._table == "account":
            echo(f"it can log in when it has a password: kite account password {name}")
        _end(taken_up)

    def set(self, config: str | None, name: str, assignments: tuple[str, ...], anyway: bool) -> None:
        given = self._parsed(assignments)
        if not given:
            raise InputError("name at least one KEY=VALUE", usage=True)
        self._change(config, name, given, "changed", anyway=anyway)

    def enable(self, config: str | None, name: str, anyway: bool) -> None:
        self._change(config, name, [("enabled", "=", None)], "enabled", anyway=anyway)

    def disable(self, config: str | None, name: str, anyway: bool) -> None:
        self._change(config, name, [("enabled", "=", False)], "disabled", anyway=anyway)

    def _change(self, config: str | None, name: str, given: Sequence[Assignment], done: str, *, anyway: bool) -> None:
        def edit(document: Document) -> None:
            self._assign(document, name, given)

        _end(change(config, edit, f"{self._table} {name} {done}", anyway=anyway))

    def copy(
        self, config: str | None, name: str, new: str, assignments: tuple[str, ...], into: str | None, anyway: bool
    ) -> None:
        given = self._parsed(assignments)
        if into is not None:
            self._copy_into(config, Path(into), name, [("name", "=", new), *given])
            return

        def edit(document: Document) -> None:
            self._demand(document, name)
            self._demand_new(document, new)
            document.copy(self._table, name, new)
            self._assign(document, new, given)

        _end(change(config, edit, f"{self._table} {name} copied to {new}", anyway=anyway))

    def _copy_into(self, config: str | None, path: Path, name: str, assignments: Sequence[Assignment]) -> None:
        """Into a file of another server: it is that server that checks the whole."""
        from copper_kite.settings import Document, apply_assignments, write_file

        here = Document(load_settings(config).source)
        block = self._demand(here, name)
        there = Document(path.read_text("utf-8") if path.exists() else "")
        self._demand_new(there, next(value for key, _, value in assignments if key == "name"))
        there.insert(self._table, here.lines(block))
        for assignment in assignments:
            present = there.blocks(self._table)[-1]
            there.set_in(present, assignment[0], apply_assignments(there.values(present), assignment))
        write_file(path, there.text)
        echo(f"{self._table} {name} copied into {path}; over there: kite config import {path.name}")

    def remove(self, config: str | None, name: str, yes: bool, anyway: bool) -> None:
        for line in self._breaks(load_settings(config), name):
            echo(line)
        if not yes:
            click.confirm(f"Remove {self._table} {name}?", abort=True)
        done = f"{self._table} {name} removed"
        _end(change(config, lambda document: document.remove(self._table, name), done, anyway=anyway))


def _end(taken_up: bool) -> None:
    """Exit 1 where the running server does not use the change."""
    if not taken_up:
        raise SystemExit(1)


def show_entry(entry: BaseModel, *, as_json: bool) -> None:
    """Print a table of the configuration, defaults marked."""
    from copper_kite.cli.output.show import print_json, print_table
    from copper_kite.settings import shown_value

    if as_json:
        print_json(plain_entry(entry))
        return
    print_table(
        ("key", "value", ""),
        [
            (key, shown_value(getattr(entry, key)), "" if key in entry.model_fields_set else "default")
            for key in type(entry).model_fields
        ],
    )


def plain_entry(entry: BaseModel) -> dict[str, Any]:
    """A table of the model as JSON has it."""
    return {key: plain(getattr(entry, key)) for key in type(entry).model_fields}


def plain(value: Any) -> Any:
    """A value of the model as JSON has it."""
    if isinstance(value, list):
        return [plain(part) for part in value]
    if isinstance(value, dict):
        return {key: plain(inner) for key, inner in value.items()}
    return value if value is None or isinstance(value, bool | int | float | str) else str(value)
