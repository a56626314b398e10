"""Parts of a configuration on their way to another server: without secrets, without what each server has for itself."""

from __future__ import annotations

from collections.abc import Sequence

from copper_kite.errors import InputError
from copper_kite.settings.edit import Block, Document
from copper_kite.settings.load import Loaded

__all__ = ["export_text", "import_into", "parse_part"]

ARRAYS = ("listener", "connector")
TABLES = ("identity", "retry")

Part = tuple[str, str]  # table and name; the name is empty for a table that there is once


def parse_part(text: str) -> Part:
    """`connector:beacon`, `listener:programs`, `identity` or `retry`. Raises InputError."""
    table, _, name = text.partition(":")
    if (table in ARRAYS and name) or (table in TABLES and not name):
        return table, name
    raise InputError(f"{text!r}: write connector:NAME, listener:NAME, identity or retry", usage=True)


def _parts(document: Document) -> list[tuple[Part, Block]]:
    found = [((table, ""), block) for table in TABLES for block in document.blocks(table)]
    for table in ARRAYS:
        found += [((table, str(document.values(block).get("name"))), block) for block in document.blocks(table)]
    return found


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
    names = {name for (table, name), _ in chosen if table == "connector"}
    connectors = [entry for entry in loaded.settings.connector if entry.name in names]
    lines = [f"# From {loaded.server_name}. Take it up with: kite config import FILE"]
    for credential in dict.fromkeys(entry.credential for entry in connectors if entry.credential):
        lines.append(f"# The other side sets its own secret: kite credential set {credential}")
    for trust in dict.fromkeys(entry.trust for entry in connectors if entry.trust != "system"):
        lines.append(f"# The other side needs this file beside its configuration: {trust}")
    for _, block in chosen:
        lines += ["", *document.lines(block)]
    return "\n".join(lines) + "\n"


def import_into(document: Document, text: str) -> None:
    """Put the tables of `text` into `document`: new ones are added, others get the keys that `text` gives them.

    A listener that is there keeps its own addresses. Raises InputError for other tables.
    """
    given = Document(text)
    foreign = [table for table in given.tables if table not in (*ARRAYS, *TABLES)]
    if foreign:
        raise InputError(f"[{foreign[0]}] is each server's own and cannot be imported")
    for (table, name), block in _parts(given):
        values = given.values(block)
        if table in ARRAYS and document.find(table, name) is None:
            document.insert(table, given.lines(block))
            continue
        present = document.values(document.find(table, name)) if name else {}  # type: ignore[arg-type]
        for key, value in values.items():
            if (table, key) != ("listener", "bind"):
                document.set(table, name or None, key, value)
        for key in present.keys() - values.keys() - {"bind"}:
            document.set(table, name, key, None)
