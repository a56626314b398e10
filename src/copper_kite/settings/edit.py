"""The configuration changed in place: line by line, so that every comment, order and blank stays as it was.

What stands above a table's header, or after its last key, is not the table's own: a comment there tells of what comes
next, and is left where it is. After each change the text is parsed again and must say what was meant.
"""

from __future__ import annotations

import os
import re
import tomllib
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from copper_kite.errors import KiteError

__all__ = ["Block", "Document", "EditFailed", "toml_value", "write_file"]

_HEADER = re.compile(r"""\s*\[\[?\s*(?:"([^"\\]+)"|([A-Za-z0-9_.-]+))\s*\]\]?\s*(?:#.*)?$""")
_KEY = re.compile(r"\s*([A-Za-z0-9_-]+)\s*(?:\.[^=]*)?=")
_PLAIN_KEY = re.compile(r"[A-Za-z0-9_-]+")
LAST_SUFFIX = ".last"


class EditFailed(KiteError):
    """Raised when a change cannot be made in place; nothing was written. It quotes no line: one may be a secret."""


@dataclass(slots=True)
class Block:
    """One table of the file, in lines counted from 0: its header, the end of its last key, and where its keys stand."""

    table: str
    start: int
    end: int
    keys: dict[str, tuple[int, int]] = field(default_factory=dict)


def toml_value(value: Any) -> str:
    """A value as TOML writes it: text, numbers, truth, lists, and tables on one line."""
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, int | float):
        return repr(value)
    if isinstance(value, list | tuple):
        return f"[{', '.join(map(toml_value, value))}]"
    if isinstance(value, Mapping):
        pairs = [f"{_key(key)} = {toml_value(inner)}" for key, inner in value.items()]
        return f"{{ {', '.join(pairs)} }}" if pairs else "{}"
    escaped = str(value).replace("\\", "\\\\").replace('"', '\\"')
    return '"' + "".join(c if c.isprintable() else f"\\U{ord(c):08x}" for c in escaped) + '"'


def _key(key: str) -> str:
    return key if _PLAIN_KEY.fullmatch(key) else toml_value(key)


class Document:
    """The text of a configuration, and the tables in it. Raises EditFailed for what is not TOML."""

    def __init__(self, text: str) -> None:
        self._line_end = "\r\n" if "\r\n" in text else "\n"
        text = text.replace("\r\n", "\n").removesuffix("\n")
        self._lines = text.split("\n") if text else []  # at line feeds alone: a value may hold other separators
        self._scan()

    @property
    def text(self) -> str:
        """The whole text as it is now."""
        return self._line_end.join([*self._lines, ""])

    def blocks(self, table: str) -> list[Block]:
        """The tables of this name, in the file's order."""
        return [block for block in self._blocks if block.table == table]

    @property
    def tables(self) -> list[str]:
        """The names of all tables, each once."""
        return list(dict.fromkeys(block.table for block in self._blocks))

    def values(self, block: Block) -> dict[str, Any]:
        """The keys of a table."""
        return self._parsed(block.start + 1, block.end)

    def find(self, table: str, name: str) -> Block | None:
        """The table of this kind whose `name` is `name`."""
        return next((block for block in self.blocks(table) if self.values(block).get("name") == name), None)

    def lines(self, block: Block) -> list[str]:
        """A table as it is written, from its header to its last key."""
        return self._lines[block.start : block.end]

    # --- changes ----------------------------------------------------------------------------------------------------

    def add(self, table: str, values: Mapping[str, Any], *, array: bool = True) -> None:
        """A new table after the last one of its kind, or at the end."""
        header = f"[[{_key(table)}]]" if array else f"[{_key(table)}]"
        lines = [header, *(f"{_key(key)} = {toml_value(value)}" for key, value in values.items())]
        self.insert(table, lines)

    def insert(self, table: str, lines: list[str]) -> None:
        """A table as it is written elsewhere, after the last one of its kind, or at the end."""
        same = self.blocks(table)
        place = same[-1].end if same else len(self._lines)
        before = [""] if place and self._lines[place - 1].strip() else []
        self._replace(place, place, [*before, *lines])

    def copy(self, table: str, name: str, new_name: str) -> None:
        """A table once more, as it is written, under a new name."""
        self.insert(table, self.lines(self._block(table, name)))
        self.set_in(self.blocks(table)[-1], "name", new_name)

    def set(self, table: str, name: str | None, key: str, value: Any) -> None:
        """Set one key of one table; None removes it. `name` is None for a table that occurs once."""
        if name is None and not self.blocks(table):
            if value is not None:
                self.add(table, {key: value}, array=False)
            return
        block = self.blocks(table)[0] if name is None else self._block(table, name)
        self.set_in(block, key, value)

    def remove(self, table: str, name: str) -> None:
        """A whole table; the comments around it stay."""
        self.remove_block(self._block(table, name))

    def remove_block(self, block: Block) -> None:
        """The same, for a table at hand."""
        start, end = block.start, block.end
        if start and not self._lines[start - 1].strip() and (end == len(self._lines) or not self._lines[end].strip()):
            start -= 1  # of the two blank lines around it, one is enough
        self._replace(start, end, [])

    # --- lines ------------------------------------------------------------------------------------------------------

    def _block(self, table: str, name: str) -> Block:
        block = self.find(table, name)
        if block is None:
            raise EditFailed(f"no {table} {name!r} in the file")
        return block

    def set_in(self, block: Block, key: str, value: Any) -> None:
        """The same, for a table at hand."""
        start, end = block.keys.get(key, (block.end, block.end))
        if value is None:
            new = []
        elif start == end:
            new = [f"{_key(key)} = {toml_value(value)}"]
        else:
            head = self._lines[start].partition("=")[0].rstrip()
            new = [f"{head} = {toml_value(value)}{self._comment_behind(start, end)}"]
        self._replace(start, end, new)

    def _comment_behind(self, start: int, end: int) -> str:
        """The comment on the last line of a value, with the blanks before it."""
        line = self._lines[end - 1]
        value = self._parsed(start, end)
        for match in re.finditer(r"\s*#", line):
            rest = [*self._lines[start : end - 1], line[: match.start()]]
            try:
                if tomllib.loads("\n".join(rest)) == value:
                    return line[match.start() :]
            except tomllib.TOMLDecodeError:
                continue
        return ""

    def _replace(self, start: int, end: int, lines: list[str]) -> None:
        self._lines[start:end] = lines
        self._scan()

    def _parsed(self, start: int, end: int) -> dict[str, Any]:
        return tomllib.loads("\n".join(self._lines[start:end]))

    def _scan(self) -> None:
        self._blocks: list[Block] = []
        current: Block | None = None
        number = 0
        while number < len(self._lines):
            line = self._lines[number]
            end = number + 1
            if header := _HEADER.match(line):
                current = Block(header.group(1) or header.group(2), number, end)
                self._blocks.append(current)
            elif key := _KEY.match(line):
                end = self._end_of_value(number)
                if current is not None:
                    current.keys.setdefault(key.group(1), (number, end))
                    current.end = end
            elif line.strip() and not line.lstrip().startswith("#"):
                raise EditFailed(f"line {number + 1} is written in a way that cannot be changed in place")
            number = end

    def _end_of_value(self, start: int) -> int:
        for end in range(start + 1, len(self._lines) + 1):
            try:
                self._parsed(start, end)
            except tomllib.TOMLDecodeError:
                continue
            return end
        raise EditFailed(f"line {start + 1} is not TOML")


def write_file(path: Path, text: str, *, mode: int | None = None, keep_last: bool = True) -> None:
    """Put `text` at `path` whole or not at all; the version before stays beside it, with `.last` after its name.

    Not so without `keep_last`: an old secret is to be gone. Owner and mode stay as they were, unless `mode` says
    which one it must have. Raises EditFailed.
    """
    path = path.resolve()  # a link stays a link
    temporary = path.with_name(f".{path.name}.{os.getpid()}")
    try:
        before = path.stat() if path.exists() else None
        wanted = mode or (before.st_mode & 0o777 if before is not None else 0o644)
        descriptor = os.open(temporary, os.O_WRONLY | os.O_CREAT | os.O_EXCL, wanted)
        with os.fdopen(descriptor, "w", encoding="utf-8", newline="") as file:
            os.fchmod(file.fileno(), wanted)
            if before is not None and os.geteuid() == 0:
                os.fchown(file.fileno(), before.st_uid, before.st_gid)
            file.write(text)
            file.flush()
            os.fsync(file.fileno())
        if before is not None and keep_last:
            last = path.with_name(path.name + LAST_SUFFIX)
            last.unlink(missing_ok=True)
            os.link(path, last)
        temporary.replace(path)
    except OSError as error:
        temporary.unlink(missing_ok=True)
        raise EditFailed(f"{path} cannot be written ({(error.strerror or str(error)).lower()})") from error
