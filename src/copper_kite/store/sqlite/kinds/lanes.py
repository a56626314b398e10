"""Lanes that stop and start, and their waiting recipients."""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence

from copper_kite.store.shared.encoding import Row
from copper_kite.store.shared.rows import LANE_COLUMNS
from copper_kite.store.sqlite.segments import Extent

__all__ = ["reroute", "retry_now", "start_lanes", "stop_lanes"]


def stop_lanes(connection: sqlite3.Connection, rows: Sequence[Row], at: Extent) -> None:
    """Note what keeps lanes from moving."""
    connection.executemany(f"INSERT OR REPLACE INTO lane VALUES ({','.join('?' * len(LANE_COLUMNS))})", rows)


def start_lanes(connection: sqlite3.Connection, rows: Sequence[Row], at: Extent) -> None:
    """Forget what kept lanes from moving."""
    connection.executemany("DELETE FROM lane WHERE connector = ? AND domain = ?", rows)


def retry_now(connection: sqlite3.Connection, rows: Sequence[Row], at: Extent) -> None:
    """Make what is delayed due."""
    connection.executemany(
        "UPDATE recipient SET next_try = ?2 WHERE state = 'delayed' AND next_try > ?2 AND connector = ?1", rows
    )


def reroute(connection: sqlite3.Connection, rows: Sequence[Row], at: Extent) -> None:
    """Set the connectors that carry recipients; what is compact stays so."""
    connection.executemany("UPDATE recipient SET connector = ? WHERE message = ? AND number = ?", rows)
    connection.executemany("UPDATE compact SET connector = ?1 WHERE id = ?2 AND ?3 = 1", rows)
