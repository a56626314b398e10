"""Simulations of a server's queue that use the server's own decisions.

`Basis.prepared` makes a `Rehearsal` of a configuration, a load, the past and a `Scenario`; `run_many` runs it. One run
(`run`) is the dispatcher of `relay` over a queue in memory (`queue`), with modelled next hops (`next_hops`) and a
clock that jumps (`loop`). The load is fitted to history (`fit`), replayed, or so much an hour (`loads`).
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from copper_kite.lazy import lazy_exports

if TYPE_CHECKING:
    from copper_kite.rehearsal.conclusion import Conclusion, conclude, range_text, short_span, trouble_text
    from copper_kite.rehearsal.figures import Band, Bands, Series
    from copper_kite.rehearsal.find import Found, Goal, find_value, parse_goal
    from copper_kite.rehearsal.load_of import LoadUsed, basis_of
    from copper_kite.rehearsal.many import run_many
    from copper_kite.rehearsal.pictures import Drawn, picture, picture_page
    from copper_kite.rehearsal.scenario import Scenario, read_scenario, scenario_of, scenario_schema
    from copper_kite.rehearsal.world import Basis, Rehearsal

__getattr__, __all__ = lazy_exports(
    __name__,
    {
        "conclusion": "Conclusion conclude range_text short_span trouble_text",
        "figures": "Band Bands Series",
        "find": "Found Goal find_value parse_goal",
        "load_of": "LoadUsed basis_of",
        "many": "run_many",
        "pictures": "Drawn picture picture_page",
        "scenario": "Scenario read_scenario scenario_of scenario_schema",
        "world": "Basis Rehearsal",
    },
)
