"""The captures of a stand-in: messages in a folder, each an .eml with its envelope and session beside it as .json."""

from __future__ import annotations

import json
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from copper_kite.errors import InputError, KiteError
from copper_kite.mail import header_end

__all__ = ["Capture", "clear_captures", "find_capture", "read_captures"]


@dataclass(frozen=True, slots=True)
class Capture:
    """A kept message: its number, its file, and the facts of its session (those of `Caught.export`)."""

    number: int
    file: Path
    facts: dict[str, Any]

    @property
    def content(self) -> bytes:
        """The message as it came. Raises OSError."""
        return self.file.read_bytes()

    @property
    def header(self) -> bytes:
        """The message's header."""
        content = self.content
        return content[: header_end(content)]


def read_captures(folder: Path) -> list[Capture]:
    """The captures in `folder`, in the order of arrival. Raises KiteError when there is no such folder."""
    if not folder.is_dir():
        raise KiteError(f"{folder}: no such folder; `kite catch` makes it, or name it with --folder")
    results = [file for file in folder.glob("*.eml") if file.stem.isdigit()]
    return [Capture(int(file.stem), file, _facts(file)) for file in sorted(results, key=lambda file: int(file.stem))]


def _facts(file: Path) -> dict[str, Any]:
    try:
        facts = json.loads(file.with_suffix(".json").read_text("utf-8"))
    except (OSError, ValueError):
        return {}
    return facts if isinstance(facts, dict) else {}


def find_capture(folder: Path, number: int) -> Capture:
    """The message with this number. Raises InputError."""
    for capture in read_captures(folder):
        if capture.number == number:
            return capture
    raise InputError(f"{folder} holds no message {number}; `kite catch list` shows those there are", usage=True)


def clear_captures(folder: Path) -> int:
    """Remove all messages; how many there were. Raises OSError."""
    result = read_captures(folder)
    for capture in result:
        capture.file.unlink()
        capture.file.with_suffix(".json").unlink(missing_ok=True)
    return len(result)
