"""`KEY=VALUE` as people type it on a command line, for the keys that the model knows."""

from __future__ import annotations

import contextlib
import difflib
import tomllib
import types
from collections.abc import Mapping
from typing import Annotated, Any, Literal, Union, get_args, get_origin

from pydantic import BaseModel
from pydantic.fields import FieldInfo
from pydantic_core import PydanticUndefined

from copper_kite.errors import InputError

__all__ = ["Assignment", "apply_assignments", "parse_assignment", "plain_default", "shown_value"]

Assignment = tuple[str, str, Any]  # key, operator (`=`, `+=`, `-=`), value; None takes the key away


def parse_assignment(model: type[BaseModel], text: str) -> Assignment:
    """`KEY=VALUE`, for lists also `KEY+=VALUE` and `KEY-=VALUE`; `KEY=` takes the key away. Raises InputError."""
    key, equals, value = text.partition("=")
    operator = key[-1:] + "=" if key[-1:] in ("+", "-") else "="
    key = key.rstrip("+-")
    if not equals:
        raise InputError(f"{text!r}: write it as KEY=VALUE", usage=True)
    if key not in model.model_fields:
        near = difflib.get_close_matches(key, model.model_fields, 1)
        hint = f"did you mean {near[0]!r}?" if near else "the keys are " + ", ".join(model.model_fields)
        raise InputError(f"{key!r} is not a key of {model.__name__.lower()}; {hint}", usage=True)
    kind = _kind(model.model_fields[key].annotation)
    if operator != "=" and kind is not list:
        raise InputError(f"{key!r} is not a list; write {key}=VALUE", usage=True)
    return key, operator, None if value == "" and operator == "=" else _parse(kind, value)


def _kind(annotation: Any) -> Any:
    """The plain type of a field: list, dict, bool, int, float, or str for all that is written as text."""
    origin = get_origin(annotation)
    if origin is Annotated:
        inner = _kind(get_args(annotation)[0])
        return str if inner is float else inner  # with a unit
    if origin in (Union, types.UnionType):
        if bool in get_args(annotation):
            return bool  # or a word, which stays as it is
        return _kind(next(part for part in get_args(annotation) if part is not type(None)))
    if origin is Literal:
        return str
    result = origin or annotation
    return result if result in (list, dict, bool, int, float) else str


def _parse(kind: Any, text: str) -> Any:
    if kind is list:
        return _toml(text) if text.startswith("[") else [part.strip() for part in text.split(",") if part.strip()]
    if kind is dict:
        return _toml(text if text.startswith("{") else f"{{ {text} }}")
    if kind is bool:
        return {"true": True, "yes": True, "on": True, "false": False, "no": False, "off": False}.get(
            text.lower(), text
        )
    if kind is float:
        with contextlib.suppress(ValueError):
            return float(text)
    return int(text) if kind is int and text.lstrip("-").isdigit() else text


def _toml(text: str) -> Any:
    try:
        return tomllib.loads(f"value = {text}")["value"]
    except tomllib.TOMLDecodeError as error:
        raise InputError(f"{text!r} is not TOML: {error}", usage=True) from error


def apply_assignments(present: Mapping[str, Any], assignment: Assignment) -> Any:
    """The value that a key gets, from what it says now."""
    key, operator, value = assignment
    if operator == "=":
        return value
    before = list(present.get(key, []))
    if operator == "+=":
        return before + [part for part in value if part not in before]
    missing = [part for part in value if part not in before]
    if missing:
        raise InputError(f"{key} does not hold {missing[0]!r}", usage=True)
    return [part for part in before if part not in value]


def shown_value(value: Any) -> str:
    """A value of the model as one would type it."""
    if value is None:
        return "-"
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, list):
        return ", ".join(map(shown_value, value)) or "-"
    if isinstance(value, Mapping):
        return ", ".join(f"{key} = {shown_value(inner)}" for key, inner in value.items()) or "-"
    return _span(value) if isinstance(value, float) else str(value)


def plain_default(field: FieldInfo) -> Any:
    """A field's default as JSON has it, written as one would type it; None when there is none."""
    value = field.default
    if value is PydanticUndefined or value is None or isinstance(value, BaseModel):
        return None
    if isinstance(value, float):
        return _span(value)
    if isinstance(value, list):
        return [_span(part) if isinstance(part, float) else str(part) for part in value] or None
    return value or None


def _span(seconds: float) -> str:
    units = (("d", 86400), ("h", 3600), ("m", 60), ("s", 1))
    unit, length = next((pair for pair in units if seconds >= pair[1] and seconds % pair[1] == 0), ("s", 1))
    return f"{seconds / length:g}{unit}"
