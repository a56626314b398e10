"""`kite config`."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING

import click

from copper_kite.cli.editing import change, plain_entry, show_entry, take_up
from copper_kite.cli.options import json_option, load_settings
from copper_kite.cli.show import echo, print_json, print_table, say
from copper_kite.errors import InputError

if TYPE_CHECKING:
    from copper_kite.settings.compare import Difference
    from copper_kite.settings.edit import Document

__all__ = ["config"]


@click.group()
def config() -> None:
    """The configuration as a whole: show, take up, move to another server, compare."""


@config.command("show")
@json_option
@click.pass_obj
def show(path: str | None, as_json: bool) -> None:
    """What counts now: every key, those that are not in the file with their defaults."""
    loaded = load_settings(path)
    settings = loaded.settings
    if as_json:
        found = {}
        for table in type(settings).model_fields:
            value = getattr(settings, table)
            tables = [plain_entry(entry) for entry in _entries(value)]
            found[table] = tables if isinstance(value, list) else tables[0]
        print_json({"file": str(loaded.path), **found})
        return
    echo(f"# {loaded.path}, served as {loaded.server_name}")
    for table in type(settings).model_fields:
        value = getattr(settings, table)
        for entry in _entries(value):
            echo()
            say((f"[[{table}]]" if isinstance(value, list) else f"[{table}]", "bold"))
            show_entry(entry, as_json=False)


def _entries(value: object) -> list:  # type: ignore[type-arg]
    return value if isinstance(value, list) else [value]


@config.command("reload")
@click.pass_context
def reload(ctx: click.Context) -> None:
    """Check the file, and have the running server take it up. Exit 1 when it refuses."""
    ctx.exit(0 if take_up(load_settings(ctx.obj, secrets=True)) else 1)


@config.command("schema")
def schema() -> None:
    """The JSON Schema of the file, so that editors complete its keys."""
    from copper_kite.settings.schema import json_schema

    print_json(json_schema())


@config.command("export")
@click.option("--only", multiple=True, metavar="PART", help="connector:NAME, listener:NAME, identity or retry; repeat.")
@click.pass_obj
def export(path: str | None, only: tuple[str, ...]) -> None:
    """Write what another server can take over: no secrets, not this server's name and folders."""
    from copper_kite.settings.transfer import export_text, parse_part

    echo(export_text(load_settings(path), [parse_part(part) for part in only]), nl=False)


@config.command("import")
@click.argument("file", metavar="FILE")
@click.option("--dry-run", is_flag=True, help="Show what would change, and change nothing.")
@click.option("--yes", is_flag=True, help="Do not ask.")
@click.pass_obj
def import_file(path: str | None, file: str, dry_run: bool, yes: bool) -> None:
    """Take over what another server exported; FILE - is standard input.

    Connectors and listeners of the same name become as they are there; a listener keeps its own addresses.
    """
    from copper_kite.settings.compare import compare
    from copper_kite.settings.edit import Document
    from copper_kite.settings.load import load_source
    from copper_kite.settings.transfer import import_into

    text = sys.stdin.read() if file == "-" else _read(Path(file))
    loaded = load_settings(path, secrets=False)
    document = Document(loaded.source)
    import_into(document, text)
    after = load_source(loaded.path, document.text, secrets=False)
    differences = compare(loaded, after, everything=True)
    _show(differences, "now", "then")
    if dry_run or not differences:
        return
    if not yes:
        click.confirm("Change it so?", abort=True)

    def edit(current: Document) -> None:
        import_into(current, text)

    change(path, edit, f"{file} imported")


@config.command("compare")
@click.argument("left", metavar="A")
@click.argument("right", metavar="B")
@click.option(
    "--all", "everything", is_flag=True, help="Also what each server has for itself: name, folders, addresses."
)
@json_option
@click.pass_context
def compare_files(ctx: click.Context, left: str, right: str, everything: bool, as_json: bool) -> None:
    """Compare two configurations by what they mean. Exit 1 when they differ."""
    from copper_kite.settings.compare import compare
    from copper_kite.settings.load import load

    differences = compare(load(Path(left), secrets=False), load(Path(right), secrets=False), everything=everything)
    if as_json:
        print_json([difference._asdict() for difference in differences])
    else:
        _show(differences, left, right)
    ctx.exit(1 if differences else 0)


def _show(differences: list[Difference], left: str, right: str) -> None:
    if not differences:
        echo("they agree")
        return
    print_table(
        ("what", left, right),
        [(place, *("-" if side is None else side for side in sides)) for place, *sides in differences],
        wraps=True,
    )


def _read(path: Path) -> str:
    try:
        return path.read_text("utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise InputError(f"{path} cannot be read: {error}") from error
