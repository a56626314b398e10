"""Writes `conformance.md`: each row of the standards that this server is measured by, with the tests that show it.

`python docs/make_conformance.py` writes it, `--check` says whether it is as it would be written. A test cites rows by
their ids in its docstring, or beside a case (`# S-11`).
"""

from __future__ import annotations

import ast
import re
import sys
from pathlib import Path

DOCS = Path(__file__).parent
TESTS = DOCS.parent / "tests"
CITED = re.compile(r"\b([SWATCQDP])-(\d\d)(?: to \1-(\d\d))?")

KINDS = {
    "S": "The server's side of SMTP",
    "W": "Safety on the wire",
    "A": "Logins",
    "T": "TLS",
    "C": "The client's side, and relaying",
    "Q": "Durability and the queue",
    "D": "Notices",
    "P": "Reading what others wrote: headers, logs, notices, lists, records of a domain",
}

# Why a row, or a part of one, is not claimed.
NOT = {
    "A-07": "accounts are in memory; nothing can be unreachable while a login is checked",
    "A-15": "bound by tls-server-end-point (RFC 5929); Python gives no exporter of TLS 1.3, which RFC 9266 would take",
}
TO_COME = "not shown yet"


def rows() -> list[tuple[str, str]]:
    """Ids and sources, in order."""
    lines = (DOCS / "conformance-rows.txt").read_text().splitlines()[1:]
    return [tuple(line.split("\t")) for line in lines]  # type: ignore[misc]


def shown_by() -> dict[str, list[str]]:
    """Row → the tests that cite it."""
    found: dict[str, list[str]] = {}
    for path in sorted(TESTS.rglob("test_*.py")):
        source = path.read_text()
        lines = source.splitlines()
        for node in ast.walk(ast.parse(source)):
            if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef) and node.name.startswith("test"):
                begin = min([node.lineno, *(one.lineno for one in node.decorator_list)]) - 1
                text = "\n".join(lines[begin : node.end_lineno])
                for row in dict.fromkeys(cited(text)):
                    found.setdefault(row, []).append(f"`{path.relative_to(TESTS.parent)}::{node.name}`")
    return found


def cited(text: str) -> list[str]:
    """The rows that a text names."""
    spans = [(kind, int(first), int(last or first)) for kind, first, last in CITED.findall(text)]
    return [f"{kind}-{number:02}" for kind, first, last in spans for number in range(first, last + 1)]


def page() -> str:
    """The whole page."""
    tests, known = shown_by(), rows()
    claimed = sum(row in tests for row, _ in known)
    lines = [
        "# Conformance",
        "",
        "What the open standards ask of a server that only sends, row by row, and the tests that fail when the",
        f"behaviour is gone. {claimed} of {len(known)} rows are claimed. Written by `docs/make_conformance.py`.",
    ]
    kind = ""
    for row, source in known:
        if row[0] != kind:
            kind = row[0]
            lines += [
                "",
                f"## {kind}: {KINDS[kind]}",
                "",
                "| row | source | shown by, or why not |",
                "| --- | --- | --- |",
            ]
        said = "<br>".join(tests.get(row, []))
        if row in NOT:
            said = f"{said}<br>{NOT[row]}" if said else NOT[row]
        lines.append(f"| {row} | {source} | {said or TO_COME} |")
    return "\n".join(lines) + "\n"


if __name__ == "__main__":
    target = DOCS / "conformance.md"
    if "--check" in sys.argv:
        sys.exit(
            0 if target.read_text() == page() else "docs/conformance.md is not as docs/make_conformance.py writes it"
        )
    target.write_text(page())
