"""Pages of the documentation: read from Markdown, shown as text."""

from __future__ import annotations

import textwrap
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from importlib import resources
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from markdown_it.token import Token

__all__ = [
    "TOPICS",
    "Block",
    "Code",
    "Heading",
    "Items",
    "Paragraph",
    "Table",
    "as_text",
    "page_text",
    "read_page",
    "sections",
]

TOPICS = {
    "guide": "All that kite does from day to day, in the order of the work.",
    "configuration": "Every key of kite.toml; with a KEY, that one alone.",
    "causes": "What stops mail, and the command that tells.",
    "jam": "A jam of 3,000 messages, taken apart with five commands.",
    "scripts": "The language of the session scripts that `kite play` plays.",
    "stand-ins": "How `kite catch` behaves, and misbehaves.",
    "domain": "The sending domain in DNS, and signed mail.",
    "protection": "DANE, MTA-STS, access tokens, and what is weak.",
    "fleet": "Several servers checked, traced and compared from one place.",
    "zones": "Names without DNS, for trials.",
    "line-maps": "How the logs of other programs are read.",
    "rehearsal": "What an outage, a burst or a change would do: the model and its limits.",
    "metrics": "What monitoring programs collect, and how they ask whether all is well.",
    "json": "What `--json` prints, command by command.",
    "backup": "What to keep, how to put it back, and how to upgrade.",
}


@dataclass(frozen=True, slots=True)
class Heading:
    """`level` 1 is the page's title."""

    level: int
    text: str


@dataclass(frozen=True, slots=True)
class Paragraph:
    text: str


@dataclass(frozen=True, slots=True)
class Code:
    text: str


@dataclass(frozen=True, slots=True)
class Items:
    texts: Sequence[str]


@dataclass(frozen=True, slots=True)
class Table:
    header: Sequence[str]
    rows: Sequence[Sequence[str]]


Block = Heading | Paragraph | Code | Items | Table


def page_text(topic: str) -> str:
    """A page as it stands in `docs/`. Raises KeyError for what is no topic."""
    if topic not in TOPICS:
        raise KeyError(topic)
    return (resources.files("copper_kite.pages") / f"{topic}.md").read_text("utf-8")


def read_page(markdown: str) -> list[Block]:
    """The blocks of a page (CommonMark, and tables). Pictures are left out; of a link its text is kept."""
    from markdown_it import MarkdownIt

    tokens = iter(MarkdownIt("commonmark").enable("table").parse(markdown))
    blocks: list[Block] = []
    for token in tokens:
        if token.type == "heading_open":
            blocks.append(Heading(int(token.tag[1:]), _inline(next(tokens))))
        elif token.type == "paragraph_open":
            text = _inline(next(tokens))
            if text:
                blocks.append(Paragraph(text))
        elif token.type in ("code_block", "fence"):
            blocks.append(Code(token.content.rstrip("\n")))
        elif token.type in ("bullet_list_open", "ordered_list_open"):
            blocks.append(Items(_texts_until(tokens, token.type.replace("open", "close"))))
        elif token.type == "table_open":
            blocks.append(_table(tokens))
    return blocks


def _inline(token: Token) -> str:
    parts = []
    for child in token.children or ():
        if child.type in ("softbreak", "hardbreak"):
            parts.append(" ")
        elif child.type != "image":
            parts.append(child.content)
    return "".join(parts).strip()


def _texts_until(tokens: Iterator[Token], end: str) -> list[str]:
    texts = []
    for token in tokens:
        if token.type == end:
            break
        if token.type == "inline":
            texts.append(_inline(token))
    return texts


def _table(tokens: Iterator[Token]) -> Table:
    rows: list[list[str]] = []
    for token in tokens:
        if token.type == "table_close":
            break
        if token.type == "tr_open":
            rows.append([])
        elif token.type == "inline":
            rows[-1].append(_inline(token))
    return Table(rows[0], rows[1:])


def sections(blocks: Sequence[Block], words: Sequence[str]) -> list[Block]:
    """The blocks of a page on `words`: a key of its tables (`hosts`, `connector.hosts`), else sections of that name."""
    wanted = " ".join(words).lower()
    table_name, _, key = wanted.rpartition(".")
    results: list[Block] = []
    for heading, inside in _by_heading(blocks):
        if wanted in heading.text.lower():
            return [heading, *inside]
        if table_name and table_name not in heading.text.lower():
            continue
        for block in inside:
            rows = [row for row in block.rows if row[0].lower() == key] if isinstance(block, Table) else []
            if rows and isinstance(block, Table):
                results += [heading, Table(block.header, rows)]
    return results


def _by_heading(blocks: Sequence[Block]) -> Iterator[tuple[Heading, list[Block]]]:
    """Each heading with the blocks below it, up to the next."""
    heading: Heading | None = None
    inside: list[Block] = []
    for block in blocks:
        if not isinstance(block, Heading):
            inside.append(block)
            continue
        if heading is not None:
            yield heading, inside
        heading, inside = block, []
    if heading is not None:
        yield heading, inside


def as_text(blocks: Sequence[Block], width: int) -> str:
    """Blocks as plain text of `width` columns; code is never wrapped."""
    return "\n\n".join(_block_text(block, width) for block in blocks) + "\n"


def _block_text(block: Block, width: int) -> str:
    match block:
        case Heading(level, text):
            return text.upper() if level == 1 else text
        case Paragraph(text):
            return textwrap.fill(text, width, initial_indent="  ", subsequent_indent="  ")
        case Code(text):
            return textwrap.indent(text, "      ")
        case Items(texts):
            return "\n".join(
                textwrap.fill(text, width, initial_indent="  - ", subsequent_indent="    ") for text in texts
            )
        case Table(header, rows):
            return "\n".join(_row_text(header, row, width) for row in rows)


def _row_text(header: Sequence[str], row: Sequence[str], width: int) -> str:
    """A row as an entry of its own: its first cell, and below it the others, with the names of their columns."""
    if len(row) == 2:
        return f"  {row[0]}\n" + textwrap.fill(row[1], width, initial_indent=" " * 8, subsequent_indent=" " * 8)
    longest = max(map(len, header[1:]))
    lines = [f"  {row[0]}"]
    for name, cell in zip(header[1:], row[1:], strict=True):
        if cell:
            label = f"{' ' * 6}{name:{longest}}  "
            lines.append(textwrap.fill(cell, width, initial_indent=label, subsequent_indent=" " * len(label)))
    return "\n".join(lines)
