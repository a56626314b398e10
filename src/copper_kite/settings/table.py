"""The base of all tables of `kite.toml`."""

from __future__ import annotations

from pydantic import BaseModel, ConfigDict

__all__ = ["Table"]


class Table(BaseModel):
    """A table of the file: unknown keys are errors, values are what they are (no guessing of types)."""

    model_config = ConfigDict(extra="forbid", frozen=True, strict=True, arbitrary_types_allowed=True)
