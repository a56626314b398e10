"""The JSON Schema of the file, made from the model: what an editor needs to complete keys and to mark wrong ones."""

from __future__ import annotations

import types
from typing import Annotated, Any, Literal, Union, get_args, get_origin

from pydantic import BaseModel
from pydantic.fields import FieldInfo

from copper_kite.settings.model import Settings
from copper_kite.settings.values import plain_default

__all__ = ["json_schema"]

_NAMES = {str: "string", int: "integer", float: "number", bool: "boolean"}


def json_schema() -> dict[str, Any]:
    """The schema (draft 2020-12). Durations, sizes and addresses are text, as they are typed."""
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "kite.toml",
        **_table(Settings),
    }


def _table(model: type[BaseModel]) -> dict[str, Any]:
    fields = model.model_fields
    results: dict[str, Any] = {
        "type": "object",
        "additionalProperties": False,
        "properties": {name: _field(field) for name, field in fields.items()},
    }
    required = [name for name, field in fields.items() if field.is_required()]
    return {**results, "required": required} if required else results


def _field(field: FieldInfo) -> dict[str, Any]:
    result = _type(field.annotation, typed=bool(field.metadata))
    if field.description:
        result["description"] = field.description.replace("`", "")
    default = plain_default(field)
    return result if default is None else {**result, "default": default}


def _type(annotation: Any, *, typed: bool = False) -> dict[str, Any]:
    """`typed`: what is written as text and read as something else."""
    origin, parts = get_origin(annotation), get_args(annotation)
    if origin is Annotated:
        return _type(parts[0], typed=True)
    if origin in (Union, types.UnionType):
        return _type(next(part for part in parts if part is not type(None)))
    if origin is Literal:
        return {"enum": list(parts)}
    if origin is list:
        return {"type": "array", "items": _type(parts[0])}
    if origin is dict:
        return {"type": "object", "additionalProperties": _type(parts[1])}
    if isinstance(annotation, type) and issubclass(annotation, BaseModel):
        return _table(annotation)
    if annotation in (int, float) and typed:
        return {"type": ["string", "integer"]}
    return {"type": _NAMES.get(annotation, "string")}
