"""From a recipient to the connector that carries it, with the reasons; from there to addresses.

`Router` chooses by the configuration, `make_plans` says with what TLS and login a connector meets its next hops, and
`mx_order` puts the exchangers of a domain in their order.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from copper_kite.lazy import lazy_exports

if TYPE_CHECKING:
    from copper_kite.routing.choose import Carrier, Choice, Router, any_fits, choose_connector
    from copper_kite.routing.cover import everything_is_carried, takers, ties
    from copper_kite.routing.mx import LOOP, mx_order
    from copper_kite.routing.outward import Outward
    from copper_kite.routing.plan import dns_of, make_plan, make_plans

__getattr__, __all__ = lazy_exports(
    __name__,
    {
        "choose": "Carrier Choice Router any_fits choose_connector",
        "cover": "everything_is_carried takers ties",
        "mx": "LOOP mx_order",
        "outward": "Outward",
        "plan": "dns_of make_plan make_plans",
    },
)
