"""Is it set up well: the configuration looked at as a whole. `check_source` gives the findings."""

from __future__ import annotations

from typing import TYPE_CHECKING

from copper_kite.lazy import lazy_exports

if TYPE_CHECKING:
    from copper_kite.posture.check import check_file, check_source

__getattr__, __all__ = lazy_exports(
    __name__,
    {
        "check": "check_file check_source",
    },
)
