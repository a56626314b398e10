"""Configurations for tests: each says what matters to it, and has the rest from here."""

from __future__ import annotations

import json
from collections.abc import Sequence

__all__ = ["connector", "site_text", "table"]


def table(head: str, **keys: object) -> str:
    """A table of TOML, `[head]` or `[[head]]`; keys whose value is None are left out."""
    lines = [f"{key} = {_value(value)}" for key, value in keys.items() if value is not None]
    return "\n".join((head, *lines, ""))


def _value(value: object) -> str:
    if isinstance(value, dict):
        return "{ " + ", ".join(f"{key} = {_value(each)}" for key, each in value.items()) + " }"
    return json.dumps(value, ensure_ascii=False)  # of text, numbers, booleans and lists TOML writes the same


def connector(name: str = "beacon", *hosts: str, **keys: object) -> str:
    """A connector to these hosts."""
    return table("[[connector]]", name=name, hosts=list(hosts) or None, **keys)


def site_text(
    *tables: str,
    bind: str | Sequence[str],
    name: str = "quay1.ternferries.example",
    server: dict[str, object] | None = None,
    identity: dict[str, object] | None = None,
    listener: dict[str, object] | None = None,
) -> str:
    """A server with one listener, `programs`, on `bind`; with more keys of its tables, and more tables."""
    bind = [bind] if isinstance(bind, str) else list(bind)
    return "".join(
        (
            table("[server]", name=name, **{"data": "queue", **(server or {})}),
            table("[identity]", **{"domain": "ternferries.example", **(identity or {})}),
            table("[[listener]]", **{"name": "programs", "bind": bind, **(listener or {})}),
            *tables,
        )
    )
