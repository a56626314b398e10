"""The logs to search: those on the command line, and those in the configuration."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from copper_kite.errors import InputError
from copper_kite.settings import Loaded
from copper_kite.trace.linemap import LineMap, load_map, shipped_map, shipped_maps
from copper_kite.trace.logs import STREAM, LogSource, rotated

__all__ = ["configured_sources", "find_map", "found_files", "named_sources"]


def find_map(name: str, base: Path) -> LineMap:
    """A map that is shipped, or one from a file. Raises SettingsError."""
    return shipped_map(name) if name in shipped_maps() else load_map(base / name)


def named_sources(names: Sequence[str], map_name: str | None, *, rotated_too: bool) -> list[LogSource]:
    """Logs given as `FILE`, `FILE=MAP` or `-`; with `rotated_too`, with the rest of their rotated sets.

    Raises InputError for what is not there, SettingsError for a map that cannot be used.
    """
    sources = []
    for name in names:
        file, map_of_it = name, map_name
        if "=" in name and not Path(name).exists():
            file, _, map_of_it = name.rpartition("=")
        files = [file] if file == STREAM else _files(Path(file), rotated_too=rotated_too)
        if not files:
            raise InputError(f"{file}: there is no such file", usage=True)
        line_map = find_map(map_of_it, Path()) if map_of_it is not None else None
        sources.append(LogSource("input" if file == STREAM else Path(file).name, tuple(files), line_map))
    return sources


def _files(path: Path, *, rotated_too: bool) -> list[str]:
    if path.is_dir():
        return sorted(str(inner) for inner in path.iterdir() if inner.is_file())
    result = rotated(path) if rotated_too else [path]
    return [str(item) for item in result if item.exists()]


def configured_sources(loaded: Loaded) -> list[LogSource]:
    """The logs of `[[other_log]]`; one without files is skipped. Raises SettingsError."""
    base, sources = loaded.path.parent, []
    for entry in loaded.settings.other_log:
        results = {path for pattern in entry.files for path in found_files(base, pattern)}
        files = sorted(results, key=lambda path: path.stat().st_mtime)
        line_map = find_map(entry.map, base) if entry.map is not None else None
        if files:
            sources.append(LogSource(entry.name, tuple(map(str, files)), line_map))
    return sources


def found_files(base: Path, pattern: str) -> list[Path]:
    """The files that a pattern of `[[other_log]]` means."""
    path = base / pattern
    return [item for item in Path(path.anchor).glob(str(path.relative_to(path.anchor))) if item.is_file()]
