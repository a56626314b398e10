"""Parts of a configuration on their way to another server: without secrets, without what each server has for itself."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from copper_kite.errors import InputError
from copper_kite.settings.edit import Block, Document
from copper_kite.settings.load import Loaded
from copper_kite.settings.model import Connector, Listener

__all__ = ["PARTS", "export_text", "import_into", "parse_part"]

NAMED = ("listener", "account", "connector", "alarm")
RULES = ("priority",)  # in their order, so that they go together
TABLES = ("identity", "retry", "guard", "log", "journal")
PARTS = f"{', '.join(f'{table}:NAME' for table in NAMED)}, {', '.join((*RULES, *TABLES[:-1]))} or {TABLES[-1]}"

Part = tuple[str, str]  # table and name; the name is empty for rules and for a table that occurs once


def parse_part(text: str) -> Part:
    """A part as it is named on a command line. Raises InputError."""
    table, _, name = text.partition(":")
    if (table in NAMED and name) or (table in (*TABLES, *RULES) and not name):
        return table, name
    raise InputError(f"{text!r}: write {PARTS}", usage=True)


def _parts(document: Document) -> list[tuple[Part, Block]]:
    results = [((table, ""), block) for table in (*TABLES, *RULES) for block in document.blocks(table)]
    for table in NAMED:
        results += [((table, str(document.values(block).get("name"))), block) for block in document.blocks(table)]
    return results


def export_text(loaded: Loaded, only: Sequence[Part]) -> str:
    """The chosen tables (all that can go, without a choice) as they are written, and what the other side must bring.

    Raises InputError for a part that is not there.
    """
    document = Document(loaded.source)
    parts = _parts(document)
    for part in only:
        if part not in dict(parts):
            raise InputError(f"there is no {':'.join(filter(None, part))} in {loaded.path}", usage=True)
    chosen = [(part, block) for part, block in parts if not only or part in only]
    lines = [f"# From {loaded.server_name}. Take it up with: kite config import FILE"]
    lines += dict.fromkeys(_brought(loaded, {part for part, _ in chosen}))
    for _, block in chosen:
        lines += ["", *document.lines(block)]
    return "\n".join(lines) + "\n"


def _brought(loaded: Loaded, chosen: set[Part]) -> Iterator[str]:
    """The secrets and files that the other side must provide itself."""
    settings = loaded.settings
    connectors = [entry for entry in settings.connector if ("connector", entry.name) in chosen]
    for entry in connectors:
        if entry.credential:
            yield f"# The other side sets its own secret: kite credential set {entry.credential}"
    for account in settings.account:
        if ("account", account.name) in chosen:
            yield f"# The other side sets its own password: kite account password {account.name}"
    files = [entry.trust for entry in connectors if entry.trust != "system" and not entry.trust.startswith("sha256:")]
    for listener in settings.listener:
        files += _pair(listener) if ("listener", listener.name) in chosen else []
    for connector in connectors:
        files += _pair(connector)
    for file in files:
        yield f"# The other side needs this file beside its configuration: {file}"


def _pair(entry: Listener | Connector) -> list[str]:
    return [file for file in (entry.certificate, entry.key) if file]


def import_into(document: Document, text: str) -> None:
    """Put the tables of `text` into `document`: new ones are added, others get the keys that `text` gives them, rules
    take the place of those that are there.

    A listener that is there keeps its own addresses. Raises InputError for other tables.
    """
    given = Document(text)
    foreign = [table for table in given.tables if table not in (*NAMED, *RULES, *TABLES)]
    if foreign:
        raise InputError(f"[{foreign[0]}] is each server's own and cannot be imported")
    for table in RULES:
        for old in reversed(document.blocks(table) if given.blocks(table) else []):
            document.remove_block(old)
    for (table, name), block in _parts(given):
        if table in RULES or (name and document.find(table, name) is None):
            document.insert(table, given.lines(block))
        else:
            _merge(document, table, name, given.values(block))


def _merge(document: Document, table: str, name: str, values: dict[str, object]) -> None:
    present = document.values(document.find(table, name)) if name else {}  # type: ignore[arg-type]
    for key, value in values.items():
        if (table, key) != ("listener", "bind"):
            document.set(table, name or None, key, value)
    for key in present.keys() - values.keys() - {"bind"}:
        document.set(table, name, key, None)
