"""Errors in a TOML file, for people: the line, the key, the problem, and the nearest right key."""

from __future__ import annotations

import difflib
import tomllib
from collections.abc import Iterable
from pathlib import Path
from typing import Any, TypeVar

from pydantic import BaseModel, ValidationError

from copper_kite.errors import Finding, SettingsError
from copper_kite.settings.locate import locate_key

__all__ = ["dotted", "explain", "parse_toml", "read_file", "read_source"]

MAX_DOTS = 50  # in a key
MAX_SOURCE = 4 * 1024**2  # characters
Model = TypeVar("Model", bound=BaseModel)


def read_file(path: Path, model: type[Model]) -> Model:
    """The file at `path` as `model` has it. Raises SettingsError with every finding."""
    source = read_source(path)
    try:
        return model.model_validate(parse_toml(path, source))
    except ValidationError as error:
        raise SettingsError(explain(error, model, path, source)) from error


def _failed(path: Path, problem: str, line: int | None = None) -> SettingsError:
    return SettingsError([Finding(file=str(path), line=line, key="", problem=problem)])


def read_source(path: Path) -> str:
    """The text of a configuration. Raises SettingsError."""
    try:
        return path.read_bytes().decode("utf-8")  # line ends as they are: what is changed in place keeps them
    except OSError as error:
        raise _failed(path, f"cannot be read ({error.strerror})") from error
    except UnicodeDecodeError as error:
        raise _failed(path, "not UTF-8") from error


def parse_toml(path: Path, source: str) -> dict[str, Any]:
    """The tables of a TOML text. Raises SettingsError with the line."""
    if len(source) > MAX_SOURCE:
        raise _failed(path, f"has over {MAX_SOURCE // 1024**2} MiB: that is no configuration")
    for number, line in enumerate(source.splitlines(), 1):
        if line.count(".") > MAX_DOTS and line.partition("=")[0].count(".") > MAX_DOTS:
            raise _failed(path, "a key of so many parts that none of ours is", number)
    try:
        return tomllib.loads(source)
    except RecursionError as error:
        raise _failed(path, "has values within values, too deep to be read") from error
    except tomllib.TOMLDecodeError as error:
        text, _, place = str(error).partition(" (at line ")
        line = place.partition(",")[0]
        number = int(line) if line.isdigit() else len(source.splitlines())
        raise _failed(path, f"not TOML: {text}", number) from error


def dotted(keys: Iterable[str | int]) -> str:
    """A place in a file as people write it: `listener[1].bind`."""
    text = ""
    for key in keys:
        text += f"[{key + 1}]" if isinstance(key, int) else f".{key}" if text else key
    return text


def explain(error: ValidationError, model: type[BaseModel], path: Path, source: str) -> list[Finding]:
    """The validator's errors as findings, in the order of the lines."""
    findings = []
    for detail in error.errors(include_url=False):
        keys = tuple(key for key in detail["loc"] if isinstance(key, int) or not key.startswith("function-"))
        problem, remedy = _words(detail, keys, model)
        findings.append(
            Finding(file=str(path), line=locate_key(source, keys), key=dotted(keys), problem=problem, remedy=remedy)
        )
    return sorted(findings, key=lambda finding: finding.line or 0)


_KINDS = {"string_type": "text", "int_type": "a whole number", "list_type": "a list", "model_type": "a table"}


def _words(detail: Any, keys: tuple[str | int, ...], model: type[BaseModel]) -> tuple[str, str]:
    kind, context = detail["type"], detail.get("ctx", {})
    if kind == "extra_forbidden":
        known = _known_keys(keys[:-1], model)
        near = difflib.get_close_matches(str(keys[-1]), known, 1)
        return "unknown key", f"did you mean {near[0]!r}?" if near else "the keys here are " + ", ".join(known)
    if kind == "missing":
        return "is missing", ""
    if kind == "value_error":
        return str(context["error"]), ""
    if kind == "literal_error":
        return f"{detail['input']!r} is not one of {context['expected']}", ""
    if kind in _KINDS:
        return f"{detail['input']!r} should be {_KINDS[kind]}", ""
    said = str(detail["msg"])
    return said[:1].lower() + said[1:], ""


def _known_keys(keys: tuple[str | int, ...], model: type[BaseModel]) -> list[str]:
    for key in keys:
        if isinstance(key, str) and key in model.model_fields:
            for candidate in _models_in(model.model_fields[key].annotation):
                model = candidate
    return list(model.model_fields)


def _models_in(annotation: Any) -> list[type[BaseModel]]:
    result = [annotation] if isinstance(annotation, type) and issubclass(annotation, BaseModel) else []
    for part in getattr(annotation, "__args__", ()):
        result += _models_in(part)
    return result
