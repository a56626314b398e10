"""Packages whose interface is imported name by name, when it is used: most commands need little of it, and quickly."""

from __future__ import annotations

import sys
from collections.abc import Callable, Mapping
from importlib import import_module
from typing import Any

__all__ = ["lazy_exports"]


def lazy_exports(package: str, exports: Mapping[str, str]) -> tuple[Callable[[str], Any], list[str]]:
    """The `__getattr__` and the `__all__` of a package that exports these names, by the module each is in (PEP 562)."""
    modules = {name: module for module, names in exports.items() for name in names.split()}

    def load(name: str) -> Any:
        module = modules.get(name)
        if module is None:
            raise AttributeError(f"module {package!r} has no attribute {name!r}")
        value = getattr(import_module(f"{package}.{module}"), name)
        setattr(sys.modules[package], name, value)  # so that it is looked up once
        return value

    return load, sorted(modules)
