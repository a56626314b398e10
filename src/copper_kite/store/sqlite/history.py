"""The history from the database of one data folder."""

from __future__ import annotations

from pathlib import Path

from copper_kite.store.shared.history import Dialect, EngineHistory
from copper_kite.store.shared.rows import MESSAGE_COLUMNS
from copper_kite.store.sqlite.schema import connect_reader

__all__ = ["sqlite_history"]


def sqlite_history(folder: Path) -> EngineHistory:
    """The history of one data folder. Raises StoreError."""
    connection = connect_reader(folder)
    return EngineHistory(connection.execute, _DIALECT, connection.close)


_DIALECT = Dialect(
    messages=(
        f"SELECT {MESSAGE_COLUMNS} FROM message m WHERE {{where}}"
        f" UNION ALL SELECT {MESSAGE_COLUMNS} FROM compact_message m WHERE {{where}} ORDER BY 1"
    ),
    message_ids=(
        "SELECT id FROM message WHERE id > :floor UNION ALL SELECT id FROM compact WHERE id > :floor"
        " ORDER BY id DESC LIMIT :limit"
    ),
    within="instr({}, {})",
)
