"""The running server: what comes in, what goes next, one attempt, and the life of it all.

`Service.start` opens listeners and the queue, and relays until it is stopped. Within: `intake` takes messages,
`dispatch` gives what is due to a `lane` for each connector, `delivery` records what became of it.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from copper_kite.lazy import lazy_exports

if TYPE_CHECKING:
    from copper_kite.relay.admin_requests import may_apply
    from copper_kite.relay.delivery import AttemptFailure, Report
    from copper_kite.relay.dispatch import Dispatcher
    from copper_kite.relay.faults import place_of
    from copper_kite.relay.job import Job
    from copper_kite.relay.lane import IDLE_SECONDS, Lane
    from copper_kite.relay.log import Log
    from copper_kite.relay.moving import move_queue
    from copper_kite.relay.network import Network, Session
    from copper_kite.relay.notices import About, Notices, make_notices
    from copper_kite.relay.offline import carry_out_offline
    from copper_kite.relay.service import Service
    from copper_kite.relay.supervised import tell_manager, watch_interval
    from copper_kite.relay.supervisor import Supervisor
    from copper_kite.relay.surroundings import Surroundings

__getattr__, __all__ = lazy_exports(
    __name__,
    {
        "admin_requests": "may_apply",
        "delivery": "AttemptFailure Report",
        "dispatch": "Dispatcher",
        "faults": "place_of",
        "job": "Job",
        "lane": "IDLE_SECONDS Lane",
        "log": "Log",
        "moving": "move_queue",
        "network": "Network Session",
        "notices": "About Notices make_notices",
        "offline": "carry_out_offline",
        "service": "Service",
        "supervised": "tell_manager watch_interval",
        "supervisor": "Supervisor",
        "surroundings": "Surroundings",
    },
)
