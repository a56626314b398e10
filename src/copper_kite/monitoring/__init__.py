"""Data for monitoring programs: numbers in the Prometheus and OpenMetrics text forms, and the server's health.

`Collector` gives the numbers to the library that writes them; `find_problems` the reasons why a server is not well.
`copper_kite.monitoring.server` is a process of its own, which answers beside a running server.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from copper_kite.lazy import lazy_exports

if TYPE_CHECKING:
    from copper_kite.monitoring.collector import Collector, render
    from copper_kite.monitoring.conditions import describe_condition
    from copper_kite.monitoring.families import FAMILIES, Family
    from copper_kite.monitoring.health import Disk, Problem, disk_of, find_problems
    from copper_kite.monitoring.readings import Readings, take_readings
    from copper_kite.monitoring.totals import Totals

__getattr__, __all__ = lazy_exports(
    __name__,
    {
        "collector": "Collector render",
        "conditions": "describe_condition",
        "families": "FAMILIES Family",
        "health": "Disk Problem disk_of find_problems",
        "readings": "Readings take_readings",
        "totals": "Totals",
    },
)
