"""`kite config`."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING

import click

from copper_kite.cli.output.show import echo, print_json, print_table, say
from copper_kite.cli.shared.editing import (
    change,
    complete_section_keys,
    judge_change,
    plain_entry,
    show_entry,
    take_up,
)
from copper_kite.cli.shared.options import json_option, load_settings
from copper_kite.errors import InputError, SettingsError

if TYPE_CHECKING:
    from copper_kite.settings import Difference, Document

__all__ = ["config"]

SECTIONS = ("server", "identity", "retry", "guard", "log", "journal", "metrics", "report", "domain", "tls_reports")


@click.group()
def config() -> None:
    """Show, reload, export, import and compare configurations."""


@config.command("show")
@json_option
@click.pass_obj
def show(path: str | None, as_json: bool) -> None:
    """Show all keys, with defaults for those not in the file."""
    loaded = load_settings(path)
    tables = {name: getattr(loaded.settings, name) for name in type(loaded.settings).model_fields}
    if as_json:
        plain = {
            table: [plain_entry(entry) for entry in value] if isinstance(value, list) else plain_entry(value)
            for table, value in tables.items()
        }
        print_json({"file": str(loaded.path), **plain})
        return
    echo(f"# {loaded.path}, served as {loaded.server_name}")
    for table, value in tables.items():
        for entry in _entries(value):
            echo()
            say((f"[[{table}]]" if isinstance(value, list) else f"[{table}]", "bold"))
            show_entry(entry, as_json=False)


def _entries(value: object) -> list:  # type: ignore[type-arg]
    return value if isinstance(value, list) else [value]


@config.command("reload")
@click.pass_context
def reload(ctx: click.Context) -> None:
    """Check the file and have the running server reload it. Exit 1 if it refuses."""
    ctx.exit(0 if take_up(load_settings(ctx.obj, secrets=True)) else 1)


@config.command("set")
@click.argument("section", type=click.Choice(SECTIONS))
@click.argument("assignments", nargs=-1, metavar="KEY=VALUE...", shell_complete=complete_section_keys)
@click.option("--anyway", is_flag=True, help="Write it even if `kite check` finds an error.")
@click.pass_obj
def set_keys(path: str | None, section: str, assignments: tuple[str, ...], anyway: bool) -> None:
    """Change keys of a SECTION that occurs once, in place.

    Lists are written with commas; KEY+=VALUE and KEY-=VALUE add to a list and take from it; KEY= takes a key away, so
    that its default counts. `kite config show` has all keys.
    """
    from copper_kite.settings import apply_assignments, model_of, parse_assignment

    given = [parse_assignment(model_of(section), text) for text in assignments]
    if not given:
        raise InputError("name at least one KEY=VALUE", usage=True)

    def edit(document: Document) -> None:
        for assignment in given:
            blocks = document.blocks(section)
            present = document.values(blocks[0]) if blocks else {}
            document.set(section, None, assignment[0], apply_assignments(present, assignment))

    if not change(path, edit, f"[{section}] changed", anyway=anyway):
        raise SystemExit(1)


@config.command("schema")
def schema() -> None:
    """Print the JSON Schema of the file, so that editors complete its keys."""
    from copper_kite.settings import json_schema

    print_json(json_schema())


@config.command("export")
@click.option(
    "--only", multiple=True, metavar="PART",
    help="connector:NAME, listener:NAME, account:NAME, priority, identity, retry, guard, log or journal; repeat.",
)  # fmt: skip
@click.pass_obj
def export(path: str | None, only: tuple[str, ...]) -> None:
    """Write what another server can take over: no secrets, not this server's name and folders."""
    from copper_kite.settings import export_text, parse_part

    echo(export_text(load_settings(path), [parse_part(part) for part in only]), nl=False)


@config.command("import")
@click.argument("file", metavar="FILE")
@click.option("--dry-run", is_flag=True, help="Show what would change without changing it.")
@click.option("--yes", is_flag=True, help="Do not ask.")
@click.option("--anyway", is_flag=True, help="Write it even if `kite check` finds an error.")
@click.pass_obj
def import_file(path: str | None, file: str, dry_run: bool, yes: bool, anyway: bool) -> None:
    """Take over what another server exported; FILE - is standard input.

    What has the same name becomes as it is there; a listener keeps its own addresses. Exit 3, also with --dry-run, when
    that cannot be.
    """
    from copper_kite.settings import Document, compare_settings, examine_configuration, import_into

    text = sys.stdin.read() if file == "-" else _read(Path(file))
    loaded = load_settings(path, secrets=False)
    document = Document(loaded.source)
    import_into(document, text)
    after, _ = examine_configuration(loaded.path, document.text, secrets=False)
    differences = compare_settings(loaded, after, everything=True)
    _show(differences, "now", "then")
    _, errors = judge_change(loaded.path, loaded.source, document.text)
    if errors and not anyway:
        raise SettingsError(errors, "--anyway writes it despite the errors")
    if dry_run or not differences:
        return
    if not yes:
        click.confirm("Change it so?", abort=True)

    def edit(current: Document) -> None:
        import_into(current, text)

    if not change(path, edit, f"{file} imported", anyway=anyway):
        raise SystemExit(1)


@config.command("compare")
@click.argument("left", metavar="A")
@click.argument("right", metavar="B")
@click.option(
    "--all", "everything", is_flag=True, help="Also compare what belongs to each server: name, folders, addresses."
)
@json_option
@click.pass_context
def compare_files(ctx: click.Context, left: str, right: str, everything: bool, as_json: bool) -> None:
    """Compare two configurations by what they mean. Exit 1 when they differ."""
    from copper_kite.settings import compare_settings, load_configuration

    differences = compare_settings(
        load_configuration(Path(left), secrets=False),
        load_configuration(Path(right), secrets=False),
        everything=everything,
    )
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
