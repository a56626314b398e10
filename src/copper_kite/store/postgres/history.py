"""The history of all servers, from the database that they share."""

from __future__ import annotations

import re
from collections.abc import Iterable
from typing import Any

from copper_kite.store.place import StorePlace
from copper_kite.store.postgres.link import Link
from copper_kite.store.postgres.schema import demand_schema
from copper_kite.store.shared.history import Dialect, EngineHistory
from copper_kite.store.shared.rows import MESSAGE_COLUMNS

__all__ = ["postgres_history"]


def postgres_history(place: StorePlace) -> EngineHistory:
    """The history of all servers. Raises StoreError."""
    link = Link(place, demand_schema)

    def query(statement: str, values: dict[str, Any]) -> Iterable[tuple[Any, ...]]:
        # One statement after the other: whoever reads several at once must not find one of them in the other's way.
        return link.rows(_NAMED.sub(r"%(\1)s", statement.replace("%", "%%")), values)

    names: dict[int, str] = {0: "a command"}

    def name_of(slot: int) -> str:
        if slot not in names:
            names.update((slot, name) for slot, name in link.rows("SELECT slot, name FROM server"))
        return names.setdefault(slot, f"server {slot}")

    return EngineHistory(query, _DIALECT, link.close, name_of)


_NAMED = re.compile(r"(?<!:):([a-z]+)\b")
_DIALECT = Dialect(
    messages=f"SELECT {MESSAGE_COLUMNS} FROM message m WHERE {{where}} ORDER BY 1",
    message_ids="SELECT id FROM message WHERE id > :floor ORDER BY id DESC LIMIT :limit",
    within="strpos({}, {})",
    server="j.server",
    unsettled=10_000,  # numbers are given before the commit, and commits overtake each other
)
