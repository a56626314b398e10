"""Our other servers, reached with the system's OpenSSH client: run a command on each and combine the answers."""

from __future__ import annotations

from typing import TYPE_CHECKING

from copper_kite.lazy import lazy_exports

if TYPE_CHECKING:
    from copper_kite.fleet.exports import compare_exports
    from copper_kite.fleet.paths import Crossing, cross_servers
    from copper_kite.fleet.remote import Answered, ask_all

__getattr__, __all__ = lazy_exports(
    __name__,
    {
        "exports": "compare_exports",
        "paths": "Crossing cross_servers",
        "remote": "Answered ask_all",
    },
)
