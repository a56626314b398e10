"""Tern Island Ferries: a small ferry line whose whole day shows what the product does, on any machine.

`Demo.run` plays the day in a folder: a server, its smart hosts, its programs, and what goes wrong between them.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from copper_kite.lazy import lazy_exports

if TYPE_CHECKING:
    from copper_kite.demo.quays import Quays, QuaysMoment
    from copper_kite.demo.run import Demo, Moment, make_history

__getattr__, __all__ = lazy_exports(
    __name__,
    {
        "quays": "Quays QuaysMoment",
        "run": "Demo Moment make_history",
    },
)
