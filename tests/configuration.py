"""Configurations for tests: each says what matters to it, and has the rest from here."""

from __future__ import annotations

import json
from collections.abc import Sequence
from pathlib import Path

from copper_kite.store import StorePlace

__all__ = ["connector", "shared_store", "site_text", "store_of", "table"]

NAME = "quay1.ternferries.example"
shared_store: list[str] = []  # where queues are that are not in the data folder, while a test runs (`tests.conftest`)


def store_of(folder: Path) -> StorePlace:
    """Where the queue of a server with this data folder is, by `site_text`."""
    return StorePlace(folder, shared_store[-1] if shared_store else "", server=NAME)


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
    name: str = NAME,
    server: dict[str, object] | None = None,
    identity: dict[str, object] | None = None,
    listener: dict[str, object] | None = None,
) -> str:
    """A server with one listener, `programs`, on `bind`; with more keys of its tables, and more tables."""
    bind = [bind] if isinstance(bind, str) else list(bind)
    if shared_store:
        server = {"store": shared_store[-1], **(server or {})}
    return "".join(
        (
            table("[server]", name=name, **{"data": "queue", **(server or {})}),
            table("[identity]", **{"domain": "ternferries.example", **(identity or {})}),
            table("[[listener]]", **{"name": "programs", "bind": bind, **(listener or {})}),
            *tables,
        )
    )
