"""The data file from which verdicts are made."""

from __future__ import annotations

import tomllib
from functools import lru_cache
from importlib import resources
from typing import Any

__all__ = ["knowledge"]


@lru_cache(maxsize=1)
def knowledge() -> dict[str, Any]:
    """Its tables: `cause`, `reply`, `refused`, `phrase`, `code` and `class`."""
    return tomllib.loads(resources.files(__package__).joinpath("knowledge.toml").read_text("utf-8"))
